import { useQuery } from "@tanstack/react-query";
import { useId } from "react";

import { answer, api } from "../api/client";

/** Machines that are offered by name; any other is typed. */
const OFFERED = 200;

/** For which machine something is looked at: typed, with the known ones offered. Empty for an example. */
export function MachinePicker(props: {
  value: string;
  change: (name: string) => void;
  label?: string;
  hint?: string;
}) {
  const { value, change, label = "Machine", hint = "machine: an example" } = props;
  const offered = useId();
  const machines = useQuery({
    queryKey: ["machines", "names"],
    queryFn: async () =>
      answer(await api.GET("/api/v1/machines", { params: { query: { sort: "name", limit: OFFERED } } })),
  });
  return (
    <>
      <input
        className="input input-sm w-44"
        list={offered}
        aria-label={label}
        placeholder={hint}
        value={value}
        onChange={(event) => {
          change(event.target.value);
        }}
      />
      <datalist id={offered}>
        {(machines.data?.machines ?? []).map((machine) => (
          <option key={machine.name} value={machine.name} />
        ))}
      </datalist>
    </>
  );
}
