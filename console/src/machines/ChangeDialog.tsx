import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";

import { answer, api, type Changed, type Edit, TRYING } from "../api/client";
import { useMenus } from "../menus/useMenus";
import { useImages } from "../images/useImages";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { useRested } from "../parts/rested";

/** Machines whose changes are shown one by one. */
const SHOWN = 6;

/** What is changed of all machines that are selected. */
export type What = "labels" | "detail" | "default_boot" | "menu";

const TITLES: Record<What, string> = {
  labels: "Change labels",
  detail: "Set a detail",
  default_boot: "Set the default boot",
  menu: "Set the menu",
};

/** Changes one thing of several machines: shown before it is saved, and saved for all of them or for none. */
export function ChangeDialog({ what, machines, close }: { what: What; machines: string[]; close: () => void }) {
  const [edits, setEdits] = useState<Edit[]>([]);
  const queries = useQueryClient();
  const wanted = useRested(JSON.stringify(edits));
  const preview = useQuery({
    queryKey: ["change", machines, wanted],
    enabled: wanted !== "[]",
    retry: false,
    gcTime: 0,
    queryFn: async () =>
      answer(await api.POST("/api/v1/machines/change", { body: { machines, edits: JSON.parse(wanted) as Edit[] }, ...TRYING })),
  });
  const save = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/machines/change", { body: { machines, edits } })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      close();
    },
  });
  return (
    <Dialog title={`${TITLES[what]} of ${machines.length === 1 ? (machines[0] ?? "") : `${machines.length} machines`}`} close={close}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <Fields what={what} change={setEdits} />
        <div className="my-3 min-h-16">
          <Refusal error={preview.error ?? save.error} />
          {preview.data && !preview.error && <Changes all={preview.data} />}
        </div>
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={close}>
            Close
          </button>
          <button
            type="submit"
            className="btn btn-primary btn-sm"
            disabled={edits.length === 0 || save.isPending || preview.error !== null}
          >
            Save
          </button>
        </div>
      </form>
    </Dialog>
  );
}

function Changes({ all }: { all: Changed[] }) {
  const changed = all.filter(({ changes }) => changes.length > 0);
  return (
    <>
      <p role="status">
        {changed.length} of {all.length} {all.length === 1 ? "machine changes" : "machines change"}.
      </p>
      <ul className="mt-1 text-base-content/75">
        {changed.slice(0, SHOWN).map(({ name, changes }) => (
          <li key={name} className="truncate">
            {name}: {changes.map(({ place, before, after }) => `${place} ${shown(before)} → ${shown(after)}`).join("; ")}
          </li>
        ))}
        {changed.length > SHOWN && <li>and {changed.length - SHOWN} more</li>}
      </ul>
    </>
  );
}

/** A value that came as JSON, as people write it. */
function shown(json: string | null | undefined): string {
  if (json == null) {
    return "(none)";
  }
  const value: unknown = JSON.parse(json);
  return Array.isArray(value) ? value.join(", ") : typeof value === "string" ? value : json;
}

const words = (text: string) => text.split(/[\s,]+/).filter((word) => word !== "");

function Fields({ what, change }: { what: What; change: (edits: Edit[]) => void }) {
  switch (what) {
    case "labels":
      return <LabelFields change={change} />;
    case "detail":
      return <DetailFields change={change} />;
    case "default_boot":
      return <BootField change={change} />;
    case "menu":
      return <MenuField change={change} />;
  }
}

function LabelFields({ change }: { change: (edits: Edit[]) => void }) {
  const [add, setAdd] = useState("");
  const [drop, setDrop] = useState("");
  const say = (added: string, dropped: string) => {
    setAdd(added);
    setDrop(dropped);
    change([
      ...words(dropped).map((value): Edit => ({ kind: "drop", key: "labels", value })),
      ...words(added).map((value): Edit => ({ kind: "append", key: "labels", value })),
    ]);
  };
  return (
    <div className="grid gap-2 sm:grid-cols-2">
      <Field label="Add labels">
        <input className="input input-sm w-full" placeholder="kiosk spare" value={add} onChange={(event) => { say(event.target.value, drop); }} />
      </Field>
      <Field label="Remove labels">
        <input className="input input-sm w-full" value={drop} onChange={(event) => { say(add, event.target.value); }} />
      </Field>
    </div>
  );
}

function DetailFields({ change }: { change: (edits: Edit[]) => void }) {
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const say = (key: string, text: string) => {
    setName(key);
    setValue(text);
    change(key.trim() === "" ? [] : [{ kind: "set", key: `details.${key.trim()}`, value: text }]);
  };
  return (
    <div className="grid gap-2 sm:grid-cols-2">
      <Field label="Detail">
        <input className="input input-sm w-full" placeholder="rack" value={name} onChange={(event) => { say(event.target.value, value); }} />
      </Field>
      <Field label="Value; empty removes it">
        <input className="input input-sm w-full" placeholder="r12" value={value} onChange={(event) => { say(name, event.target.value); }} />
      </Field>
    </div>
  );
}

function BootField({ change }: { change: (edits: Edit[]) => void }) {
  const images = useImages();
  return (
    <Field label="While no install is armed">
      <select
        className="select select-sm w-full"
        defaultValue=""
        onChange={({ target }) => {
          change(target.value === "" ? [] : [{ kind: "set", key: "default_boot", value: target.value }]);
        }}
      >
        <option value="">choose</option>
        <option value="local-disk">local disk</option>
        <option value="menu">menu</option>
        <option value="ignored">nothing: no boot information</option>
        {(images.data ?? [])
          .filter(({ kind }) => kind === "live")
          .map(({ name, title }) => (
            <option key={name} value={`live:${name}`}>
              live image {title}
            </option>
          ))}
      </select>
    </Field>
  );
}

function MenuField({ change }: { change: (edits: Edit[]) => void }) {
  const menus = useMenus();
  return (
    <Field label="Menu">
      <select
        className="select select-sm w-full"
        defaultValue="?"
        onChange={({ target }) => {
          change(target.value === "?" ? [] : [{ kind: "set", key: "menu", value: target.value }]);
        }}
      >
        <option value="?">choose</option>
        <option value="">that of its labels, its subnet or the site</option>
        {(menus.data ?? []).map(({ name }) => (
          <option key={name} value={name}>
            {name}
          </option>
        ))}
      </select>
    </Field>
  );
}

function Field({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="block">
      <span className="block text-base-content/75">{label}</span>
      {children}
    </label>
  );
}
