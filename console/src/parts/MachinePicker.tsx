import { useQuery } from "@tanstack/react-query";

import { answer, api } from "../api/client";

/** Machines that are offered by name; any other is typed. */
const OFFERED = 200;

/** For which machine something is looked at: typed, with the known ones offered. Empty for an example. */
export function MachinePicker({ value, change }: { value: string; change: (name: string) => void }) {
  const machines = useQuery({
    queryKey: ["machines", "names"],
    queryFn: async () =>
      answer(await api.GET("/api/v1/machines", { params: { query: { sort: "name", limit: OFFERED } } })),
  });
  return (
    <>
      <input
        className="input input-sm w-44"
        list="machines"
        aria-label="Machine"
        placeholder="machine: an example"
        value={value}
        onChange={(event) => {
          change(event.target.value);
        }}
      />
      <datalist id="machines">
        {(machines.data?.machines ?? []).map((machine) => (
          <option key={machine.name} value={machine.name} />
        ))}
      </datalist>
    </>
  );
}
