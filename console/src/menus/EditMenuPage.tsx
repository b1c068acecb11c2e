import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";

import { answer, api, basedOn, done, type Edited, edited, type MenuDraft, type MenuView } from "../api/client";
import { Conflict } from "../parts/Conflict";
import { Refusal } from "../parts/Faults";
import { NameActions } from "../parts/NameActions";
import { Loading } from "../parts/States";
import { useDraft } from "../parts/useDraft";
import { newEntry } from "./actions";
import { Entries } from "./Entries";
import { Preview } from "./Preview";
import { useMenu, usePreview, type Viewer } from "./useMenus";

/** A menu being arranged, and beside it the screen as a machine will show it. */
export function EditMenuPage() {
  const { name = "" } = useParams();
  const menu = useMenu(name);
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-auto pb-8">
      <Link to="/menus" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Menus
      </Link>
      {menu.isPending ? <Loading /> : <Editor key={name} name={name} saved={menu.data} />}
    </div>
  );
}

const FRESH: MenuDraft = { title: "", silent: false, after: "menu", entries: [newEntry([])] };

function draftOf(saved: MenuView | undefined): MenuDraft {
  if (!saved) {
    return FRESH;
  }
  const { title, default: key, timeout_secs, silent, after, entries } = saved;
  return {
    title: title ?? "",
    default: key ?? null,
    timeout_secs: timeout_secs ?? null,
    silent: silent ?? false,
    after: after ?? "menu",
    entries: entries ?? [],
  };
}

function Editor({ name, saved }: { name: string; saved: Edited<MenuView> | undefined }) {
  const { draft, setDraft, headers, take } = useDraft(saved, draftOf);
  const [viewer, setViewer] = useState<Viewer>({ machine: "", architecture: "", language: "" });
  const preview = usePreview(name, draft, viewer);
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const params = { path: { name } };
      return edited(await api.PUT("/api/v1/menus/{name}", { params, headers: headers(etag), body: draft }));
    },
    onSuccess: async (menu) => {
      // Phrases are hashes now: none of them stays in the page.
      take(menu);
      await queries.invalidateQueries();
    },
  });
  const faults = preview.data?.faults ?? [];
  const set = (part: Partial<MenuDraft>) => {
    setDraft({ ...draft, ...part });
  };
  return (
    <>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-semibold">{name}</h1>
        <span className="text-base-content/70">
          {saved ? `shown by ${saved.shown_by.join(", ") || "nobody"}` : "not saved yet"}
        </span>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={save.isPending || faults.length > 0}
          onClick={() => {
            save.mutate(undefined);
          }}
        >
          Save
        </button>
        {saved && (
          <NameActions
            noun="menu"
            name={name}
            page={(of) => `/menus${of === undefined ? "" : `/${of}`}`}
            rename={async (to) => answer(await api.POST("/api/v1/menus/{name}/rename", { params: { path: { name } }, body: { to } }))}
            copy={async (to) => answer(await api.POST("/api/v1/menus/{name}/copy", { params: { path: { name } }, body: { to } }))}
            remove={async () => {
              done(await api.DELETE("/api/v1/menus/{name}", { params: { path: { name } }, headers: basedOn(saved.etag) }));
            }}
          />
        )}
        <span role="status" className="text-success">
          {save.isSuccess && JSON.stringify(draft) === JSON.stringify(draftOf(save.data)) && "saved"}
        </span>
      </div>
      <Refusal error={save.error} />
      <Conflict
        save={save}
        theirs={() => {
          if (saved) {
            take(saved);
          }
        }}
      />
      <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,30rem)_minmax(0,1fr)]">
        <div>
          <Frame draft={draft} set={set} />
          <h2 className="mt-4 mb-2 border-b border-base-300 pb-1 font-semibold">Entries</h2>
          <Entries
            entries={draft.entries ?? []}
            place="entries"
            faults={faults}
            change={(entries) => {
              set({ entries });
            }}
          />
        </div>
        <Preview preview={preview} viewer={viewer} setViewer={setViewer} />
      </div>
    </>
  );
}

/** What holds for the menu as a whole. */
function Frame({ draft, set }: { draft: MenuDraft; set: (part: Partial<MenuDraft>) => void }) {
  const waits = draft.timeout_secs == null;
  return (
    <div className="grid gap-x-4 gap-y-1 sm:grid-cols-[8rem_minmax(0,1fr)]">
      <label htmlFor="menu-title" className="pt-1 text-base-content/75">
        Title
      </label>
      <input
        id="menu-title"
        className="input input-sm w-full"
        value={draft.title ?? ""}
        placeholder="as in Gannet Sound Ferries: {{ name }}"
        onChange={(event) => {
          set({ title: event.target.value });
        }}
      />
      <label htmlFor="menu-default" className="pt-1 text-base-content/75">
        Default
      </label>
      <select
        id="menu-default"
        className="select select-sm w-full"
        value={draft.default ?? ""}
        onChange={(event) => {
          set({ default: event.target.value || null });
        }}
      >
        <option value="">the first entry</option>
        {(draft.entries ?? []).map((entry) => (
          <option key={entry.key} value={entry.key}>
            {entry.title}
          </option>
        ))}
      </select>
      <label htmlFor="menu-timeout" className="pt-1 text-base-content/75">
        Starts after
      </label>
      <span className="flex items-center gap-2">
        <input
          id="menu-timeout"
          type="number"
          min={1}
          max={3600}
          className="input input-sm w-24"
          value={draft.timeout_secs ?? ""}
          placeholder="never"
          onChange={(event) => {
            const secs = event.target.valueAsNumber;
            set(Number.isNaN(secs) ? { timeout_secs: null, silent: false } : { timeout_secs: secs });
          }}
        />
        seconds{waits && ": waits for a person"}
      </span>
      <label htmlFor="menu-after" className="pt-1 text-base-content/75">
        If nothing starts
      </label>
      <select
        id="menu-after"
        className="select select-sm w-full"
        value={draft.after ?? "menu"}
        onChange={(event) => {
          set({ after: event.target.value as NonNullable<MenuDraft["after"]> });
        }}
      >
        <option value="menu">show the menu again</option>
        <option value="local-disk">start the local disk</option>
        <option value="restart">restart</option>
        <option value="power-off">power off</option>
      </select>
      <span />
      <label className="flex items-center gap-2 py-1">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={draft.silent ?? false}
          disabled={waits}
          onChange={(event) => {
            set({ silent: event.target.checked });
          }}
        />
        Hidden until a key is pressed
      </label>
    </div>
  );
}
