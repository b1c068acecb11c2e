import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, type Edited, edited, type SiteSettings } from "../api/client";
import { useMenus } from "../menus/useMenus";
import { Field } from "../parts/Form";
import { NotSaved, PageEnd } from "../parts/FormEnd";
import { Answered } from "../parts/States";
import { useDraft } from "../parts/useDraft";

type Limit = "loading_minutes" | "starting_minutes" | "installing_minutes" | "whole_minutes";

const LIMITS: [Limit, string, string][] = [
  ["loading_minutes", "Stalled after, while loading", "From one step of a boot to the next."],
  ["starting_minutes", "Stalled after, while starting", "From the kernel to the answer file."],
  ["installing_minutes", "Stalled after, while installing", "Without any sign from the installer."],
  ["whole_minutes", "Failed after", "From the answer file to the end, whatever is heard meanwhile."],
];
const FIELDS = ["menu", "verify_hours", "limits", "allow_commands"];

/** The settings of the whole site. */
export function SettingsPage() {
  const settings = useQuery({
    queryKey: ["settings"],
    queryFn: async () => edited(await api.GET("/api/v1/settings")),
  });
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="mb-4 text-lg font-semibold">Settings</h1>
      <Answered query={settings}>{(data) => <Form saved={data} />}</Answered>
    </div>
  );
}

type Draft = Record<Limit | "menu" | "verify_hours", string> & { allow_commands: boolean };

function toDraft(settings: SiteSettings | undefined): Draft {
  const limit = (key: Limit) => String(settings?.limits?.[key] ?? 0);
  return {
    menu: settings?.menu ?? "",
    verify_hours: String(settings?.verify_hours ?? 0),
    allow_commands: settings?.allow_commands ?? false,
    loading_minutes: limit("loading_minutes"),
    starting_minutes: limit("starting_minutes"),
    installing_minutes: limit("installing_minutes"),
    whole_minutes: limit("whole_minutes"),
  };
}

const number = (text: string) => Math.max(0, Number.parseInt(text, 10) || 0);

function Form({ saved }: { saved: Edited<SiteSettings> }) {
  const { draft, setDraft, headers, take, rebase } = useDraft(saved, toDraft);
  const menus = useMenus();
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async (etag?: string) =>
      edited(
        await api.PUT("/api/v1/settings", {
          headers: headers(etag),
          body: {
            menu: draft.menu || null,
            verify_hours: number(draft.verify_hours),
            allow_commands: draft.allow_commands,
            limits: {
              loading_minutes: number(draft.loading_minutes),
              starting_minutes: number(draft.starting_minutes),
              installing_minutes: number(draft.installing_minutes),
              whole_minutes: number(draft.whole_minutes),
            },
          },
        }),
      ),
    onSuccess: async ({ etag }) => {
      rebase(etag);
      await queries.invalidateQueries();
    },
  });
  const set = (part: Partial<Draft>) => {
    setDraft({ ...draft, ...part });
  };
  return (
    <form
      className="max-w-xl space-y-3"
      aria-label="Settings"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      <Field field="menu" label="Menu" hint="Of machines to which neither they nor their labels nor their subnet give one." error={save.error}>
        <select className="select w-full" value={draft.menu} onChange={(event) => { set({ menu: event.target.value }); }}>
          <option value="">the built-in one</option>
          {(menus.data ?? []).map(({ name }) => (
            <option key={name} value={name}>{name}</option>
          ))}
        </select>
      </Field>
      <Field field="verify_hours" label="Verify images every, hours" hint="Every file is read again and compared with its digest. 0: never." error={save.error}>
        <input type="number" min={0} className="input w-32" value={draft.verify_hours} onChange={(event) => { set({ verify_hours: event.target.value }); }} />
      </Field>
      <Field field="allow_commands" label="Commands on machines" hint="Whoever may arm jobs runs them as root on machines that run the survey. Each is on record." error={save.error}>
        <label className="flex items-center gap-2">
          <input type="checkbox" className="checkbox checkbox-sm" checked={draft.allow_commands} onChange={(event) => { set({ allow_commands: event.target.checked }); }} />
          People may run commands on machines that run the survey
        </label>
      </Field>
      {LIMITS.map(([key, label, hint]) => (
        <Field key={key} field={`limits.${key}`} label={`${label}, minutes`} hint={`${hint} 0: no limit.`} error={save.error}>
          <input type="number" min={0} className="input w-32" value={draft[key]} onChange={(event) => { set({ [key]: event.target.value }); }} />
        </Field>
      ))}
      <NotSaved fields={FIELDS} save={save} theirs={() => { take(saved); }} />
      <PageEnd save={save} />
    </form>
  );
}
