import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, type Edited, edited, type WebhookEvent, type WebhookView } from "../api/client";
import { Dialog } from "../parts/Dialog";
import { Field, OtherFaults } from "../parts/Form";
import { Answered } from "../parts/States";

const EVENTS: [WebhookEvent, string][] = [
  ["installed", "installed"],
  ["failed", "failed"],
  ["stalled", "stalled"],
  ["cancelled", "cancelled"],
  ["booted", "first start of the installed host"],
];
const FIELDS = ["name", "url", "events", "key"];

/** Adds a webhook. */
export function AddWebhook({ close }: { close: () => void }) {
  return (
    <Dialog title="Add a webhook" close={close}>
      <Form saved={undefined} close={close} />
    </Dialog>
  );
}

/** Changes a webhook: read anew, so that nothing is overwritten that somebody else has saved meanwhile. */
export function ChangeWebhook({ name, close }: { name: string; close: () => void }) {
  const webhook = useQuery({
    queryKey: ["webhooks", name, "form"],
    gcTime: 0,
    staleTime: Infinity,
    queryFn: async () => edited(await api.GET("/api/v1/webhooks/{name}", { params: { path: { name } } })),
  });
  return (
    <Dialog title={`Change ${name}`} close={close}>
      <Answered query={webhook}>{(saved) => <Form saved={saved} close={close} />}</Answered>
    </Dialog>
  );
}

function Form({ saved, close }: { saved: Edited<WebhookView> | undefined; close: () => void }) {
  const [name, setName] = useState(saved?.name ?? "");
  const [url, setUrl] = useState(saved?.url ?? "");
  const [key, setKey] = useState("");
  const [events, setEvents] = useState<WebhookEvent[]>(saved?.events ?? EVENTS.map(([event]) => event));
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async () =>
      answer(
        await api.PUT("/api/v1/webhooks/{name}", {
          params: { path: { name: name.trim() } },
          headers: saved ? { "If-Match": saved.etag } : { "If-None-Match": "*" },
          body: { url: url.trim(), events, ...(key !== "" && { key }) },
        }),
      ),
    onSuccess: async (webhook) => {
      setKey("");
      await queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[2] !== "form" });
      if (webhook.key == null) {
        close();
      }
    },
  });
  if (save.data?.key) {
    return (
      <div role="alert" className="space-y-3">
        <p>{name} is added. This is its signing key; it is not shown again:</p>
        <p className="border-l-4 border-accent pl-3">
          <code className="break-all select-all">{save.data.key}</code>
        </p>
        <div className="flex justify-end">
          <button type="button" className="btn btn-primary btn-sm" onClick={close}>
            Close
          </button>
        </div>
      </div>
    );
  }
  return (
    <form
      className="space-y-3"
      aria-label="Webhook"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {!saved && (
        <Field field="name" label="Name" error={save.error}>
          <input className="input w-full" placeholder="records" value={name} onChange={({ target }) => { setName(target.value); }} />
        </Field>
      )}
      <Field field="url" label="URL" error={save.error}>
        <input className="input w-full" placeholder="https://records.gannet.example/installs" value={url} onChange={({ target }) => { setUrl(target.value); }} />
      </Field>
      <fieldset>
        <legend className="font-medium">Events of an install</legend>
        <div className="flex flex-wrap gap-x-4">
          {EVENTS.map(([event, text]) => (
            <label key={event} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={events.includes(event)}
                onChange={({ target }) => {
                  setEvents(target.checked ? [...events, event] : events.filter((other) => other !== event));
                }}
              />
              {text}
            </label>
          ))}
        </div>
      </fieldset>
      <Field
        field="key"
        label="Signing key"
        hint={saved ? "If left empty, the present key stays." : "If left empty, one is made and shown once."}
        error={save.error}
      >
        <input type="password" autoComplete="off" className="input w-full" value={key} onChange={({ target }) => { setKey(target.value); }} />
      </Field>
      <OtherFaults fields={FIELDS} error={save.error} />
      <div className="flex justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={close}>
          Cancel
        </button>
        <button type="submit" className="btn btn-primary btn-sm" disabled={save.isPending || name.trim() === ""}>
          {saved ? "Save" : "Add"}
        </button>
      </div>
    </form>
  );
}
