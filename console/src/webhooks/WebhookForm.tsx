import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { answer, api, type Edited, edited, type WebhookEvent, type WebhookView } from "../api/client";
import { Dialog } from "../parts/Dialog";
import { Field } from "../parts/Form";
import { DialogEnd, NotSaved } from "../parts/FormEnd";
import { Answered } from "../parts/States";
import { useDraft } from "../parts/useDraft";

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
    queryFn: async () => edited(await api.GET("/api/v1/webhooks/{name}", { params: { path: { name } } })),
  });
  return (
    <Dialog title={`Change ${name}`} close={close}>
      <Answered query={webhook}>{(saved) => <Form saved={saved} close={close} />}</Answered>
    </Dialog>
  );
}

interface Draft {
  name: string;
  url: string;
  key: string;
  events: WebhookEvent[];
}

function toDraft(webhook: WebhookView | undefined): Draft {
  return {
    name: webhook?.name ?? "",
    url: webhook?.url ?? "",
    key: "",
    events: webhook?.events ?? EVENTS.map(([event]) => event),
  };
}

function Form({ saved, close }: { saved: Edited<WebhookView> | undefined; close: () => void }) {
  const { draft, setDraft, headers, take } = useDraft(saved, toDraft);
  const { name, url, key, events } = draft;
  const set = (part: Partial<Draft>) => {
    setDraft({ ...draft, ...part });
  };
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async (etag?: string) =>
      answer(
        await api.PUT("/api/v1/webhooks/{name}", {
          params: { path: { name: name.trim() } },
          headers: saved ? headers(etag) : { "If-None-Match": "*" },
          body: { url: url.trim(), events, ...(key !== "" && { key }) },
        }),
      ),
    onSuccess: async (webhook) => {
      set({ key: "" });
      if (webhook.key == null) {
        close();
      }
      await queries.invalidateQueries();
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
        save.mutate(undefined);
      }}
    >
      {!saved && (
        <Field field="name" label="Name" error={save.error}>
          <input className="input w-full" placeholder="records" value={name} onChange={({ target }) => { set({ name: target.value }); }} />
        </Field>
      )}
      <Field field="url" label="URL" error={save.error}>
        <input className="input w-full" placeholder="https://records.gannet.example/installs" value={url} onChange={({ target }) => { set({ url: target.value }); }} />
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
                  set({ events: target.checked ? [...events, event] : events.filter((other) => other !== event) });
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
        <input type="password" autoComplete="off" className="input w-full" value={key} onChange={({ target }) => { set({ key: target.value }); }} />
      </Field>
      <NotSaved fields={FIELDS} save={save} theirs={saved && (() => { take(saved); })} />
      <DialogEnd isNew={!saved} isReady={!save.isPending && name.trim() !== ""} close={close} />
    </form>
  );
}
