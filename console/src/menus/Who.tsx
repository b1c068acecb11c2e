import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, basedOn, edited, type LabelView, type MenuView } from "../api/client";
import { Conflict } from "../parts/Conflict";
import { Refusal } from "../parts/Faults";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { useDraft } from "../parts/useDraft";

/** Which menu the site shows, and what machines of each label have in common. */
export function Who({ menus }: { menus: MenuView[] }) {
  const labels = useQuery({ queryKey: ["labels"], queryFn: async () => answer(await api.GET("/api/v1/labels")) });
  const settings = useQuery({ queryKey: ["settings"], queryFn: async () => edited(await api.GET("/api/v1/settings")) });
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async ({ menu, overwrites }: { menu: string; overwrites?: string }) => {
      const { etag, ...now } = settings.data ?? ({ etag: "" });
      const headers = basedOn(overwrites ?? etag);
      return answer(await api.PUT("/api/v1/settings", { headers, body: { ...now, menu: menu || null } }));
    },
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <div className="mt-6 max-w-5xl">
      <Section title="Who is shown which">
        <p className="mb-2 text-base-content/75">
          A machine&apos;s own menu goes before that of its labels, its subnet&apos;s, and the site&apos;s.
        </p>
        <div className="mb-3 flex flex-wrap items-center gap-3">
          The site&apos;s
          <MenuSelect
            label="The site's menu"
            menus={menus}
            none="the one that is built in"
            value={settings.data?.menu ?? ""}
            change={(menu) => {
              save.mutate({ menu });
            }}
          />
        </div>
        <Refusal error={save.error} />
        <Conflict
          save={{
            ...save,
            mutate: (overwrites) => {
              save.mutate({ menu: save.variables?.menu ?? "", overwrites });
            },
          }}
          theirs={() => {
            void queries.invalidateQueries();
          }}
        />
        <Answered query={labels} rows={2}>
          {(all) => (
            <ul className="space-y-2">
              {all.map((label) => (
                <Label key={label.name} label={label} menus={menus} />
              ))}
            </ul>
          )}
        </Answered>
      </Section>
    </div>
  );
}

function toFields(label: LabelView | undefined) {
  return { menu: label?.menu ?? "", parameters: label?.parameters.join(" ") ?? "" };
}

function Label({ label, menus }: { label: LabelView; menus: MenuView[] }) {
  const { draft, setDraft, headers, take } = useDraft(label, toFields);
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const params = { path: { name: label.name } };
      const parameters = draft.parameters.split(/\s+/).filter((word) => word !== "");
      const body = { menu: draft.menu || null, parameters };
      return answer(await api.PUT("/api/v1/labels/{name}", { params, headers: headers(etag), body }));
    },
    onSuccess: async (saved) => {
      take(saved);
      await queries.invalidateQueries();
    },
  });
  return (
    <li>
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined);
        }}
      >
        <span className="w-32">
          label <span className="font-medium">{label.name}</span>
        </span>
        <span className="w-24 text-base-content/70">{label.machines} machines</span>
        <MenuSelect
          label={`Menu of label ${label.name}`}
          menus={menus}
          none="no menu of its own"
          value={draft.menu}
          change={(menu) => {
            setDraft({ ...draft, menu });
          }}
        />
        <input
          className="input input-sm w-64 font-mono"
          aria-label={`Kernel parameters of label ${label.name}`}
          placeholder="kernel parameters"
          value={draft.parameters}
          onChange={(event) => {
            setDraft({ ...draft, parameters: event.target.value });
          }}
        />
        <button type="submit" className="btn btn-xs" disabled={save.isPending}>
          Save
        </button>
      </form>
      <Refusal error={save.error} />
      <Conflict
        save={save}
        theirs={() => {
          take(label);
        }}
      />
    </li>
  );
}

function MenuSelect(props: {
  label: string;
  menus: MenuView[];
  none: string;
  value: string;
  change: (menu: string) => void;
}) {
  return (
    <select
      className="select select-sm w-52"
      aria-label={props.label}
      value={props.value}
      onChange={(event) => {
        props.change(event.target.value);
      }}
    >
      <option value="">{props.none}</option>
      {props.menus.map((menu) => (
        <option key={menu.name} value={menu.name}>
          {menu.name}
        </option>
      ))}
    </select>
  );
}
