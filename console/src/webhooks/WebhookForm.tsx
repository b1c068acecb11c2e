import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, type HandoverEvent } from "../api/client";
import { Refusal } from "../parts/Faults";

const EVENTS: [HandoverEvent, string][] = [
  ["installed", "it is installed"],
  ["failed", "it failed"],
  ["stalled", "it stalled"],
  ["cancelled", "it was called off"],
  ["booted", "its host started"],
];

/** Adds somebody who is told, or changes the one of that name. */
export function SaveHandover() {
  const [name, setName] = useState("");
  const [url, setUrl] = useState("");
  const [key, setKey] = useState("");
  const [events, setEvents] = useState<HandoverEvent[]>(EVENTS.map(([event]) => event));
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async () =>
      answer(
        await api.PUT("/api/v1/handovers/{name}", {
          params: { path: { name: name.trim() } },
          body: { url: url.trim(), events, ...(key !== "" && { key }) },
        }),
      ),
    onSuccess: () => {
      setKey("");
    },
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <details className="max-w-xl">
      <summary className="cursor-pointer">Tell somebody, or change a handover</summary>
      <form
        className="mt-2 space-y-2"
        aria-label="Handover"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <Field label="Name" hint="records" value={name} change={setName} />
        <Field label="URL" hint="https://records.gannet.example/installs" value={url} change={setUrl} />
        <fieldset className="flex flex-wrap gap-x-4">
          <legend className="text-base-content/75">Tell when</legend>
          {EVENTS.map(([event, said]) => (
            <label key={event} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={events.includes(event)}
                onChange={({ target }) => {
                  setEvents(target.checked ? [...events, event] : events.filter((other) => other !== event));
                }}
              />
              {said}
            </label>
          ))}
        </fieldset>
        <Field label="Signing key" hint="left empty: the one it has, or one that is made" value={key} change={setKey} secret />
        <Refusal error={save.error} />
        {save.data?.key && (
          <p role="alert" className="border-l-4 border-accent pl-3">
            Its signing key, which is not shown again: <code className="break-all select-all">{save.data.key}</code>
          </p>
        )}
        <button type="submit" className="btn btn-primary btn-sm" disabled={save.isPending || name.trim() === ""}>
          Save
        </button>
      </form>
    </details>
  );
}

function Field(props: { label: string; hint: string; value: string; change: (value: string) => void; secret?: boolean }) {
  return (
    <label className="input input-sm w-full">
      <span className="w-24 text-base-content/70">{props.label}</span>
      <input
        type={props.secret ? "password" : "text"}
        autoComplete="off"
        value={props.value}
        placeholder={props.hint}
        onChange={(event) => {
          props.change(event.target.value);
        }}
      />
    </label>
  );
}
