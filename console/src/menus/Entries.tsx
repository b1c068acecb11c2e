import { ArrowDown, ArrowUp, Plus, Trash2 } from "lucide-react";
import { useState } from "react";

import type { EntryDraft, Fault } from "../api/client";
import { ACTIONS, kindOf, newEntry } from "./actions";
import { EntryFields } from "./EntryFields";

/** Entries in their order: moved, added, taken out, and opened to be changed. */
export function Entries(props: {
  entries: EntryDraft[];
  /** Where they stand in the draft, as faults name it. */
  place: string;
  faults: Fault[];
  change: (entries: EntryDraft[]) => void;
}) {
  const { entries, place, faults, change } = props;
  const [open, setOpen] = useState<number>();
  const put = (index: number, entry: EntryDraft) => {
    change(entries.map((old, at) => (at === index ? entry : old)));
  };
  const move = (index: number, by: -1 | 1) => () => {
    const moved = [...entries];
    const [entry] = moved.splice(index, 1);
    if (entry) {
      moved.splice(index + by, 0, entry);
      change(moved);
      setOpen((now) => (now === index ? index + by : now === index + by ? index : now));
    }
  };
  return (
    <ol className="space-y-1">
      {entries.map((entry, index) => {
        const own = faults.filter((fault) => fault.place.startsWith(`${place}[${index}]`));
        return (
          <li key={index} className={`border-l-4 ${own.length > 0 ? "border-error" : "border-base-300"}`}>
            <div className="flex items-center gap-1 bg-base-200 px-2 py-1">
              <button
                type="button"
                className="min-w-0 flex-1 cursor-pointer text-left"
                aria-expanded={open === index}
                onClick={() => {
                  setOpen(open === index ? undefined : index);
                }}
              >
                <span className="block truncate font-medium">{entry.title || "(no title)"}</span>
                <span className="block truncate text-xs text-base-content/70">
                  {ACTIONS[kindOf(entry.action)]}
                  {(entry.guard != null || entry.keep_guard) && ", past a phrase"}
                  {entry.shown_if && `, if ${entry.shown_if}`}
                </span>
              </button>
              <Small label={`Move ${entry.title} up`} disabled={index === 0} act={move(index, -1)}>
                <ArrowUp className="size-4" aria-hidden />
              </Small>
              <Small label={`Move ${entry.title} down`} disabled={index === entries.length - 1} act={move(index, 1)}>
                <ArrowDown className="size-4" aria-hidden />
              </Small>
              <Small
                label={`Take ${entry.title} out`}
                disabled={entries.length === 1}
                act={() => {
                  change(entries.filter((_, at) => at !== index));
                  setOpen(undefined);
                }}
              >
                <Trash2 className="size-4" aria-hidden />
              </Small>
            </div>
            {open === index && (
              <EntryFields
                entry={entry}
                place={`${place}[${index}]`}
                faults={own}
                change={(changed) => {
                  put(index, changed);
                }}
              />
            )}
          </li>
        );
      })}
      <li>
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => {
            change([...entries, newEntry(entries)]);
            setOpen(entries.length);
          }}
        >
          <Plus className="size-4" aria-hidden /> Add an entry
        </button>
      </li>
    </ol>
  );
}

function Small(props: { label: string; disabled: boolean; act: () => void; children: React.ReactNode }) {
  return (
    <button
      type="button"
      className="btn btn-ghost btn-xs btn-square"
      aria-label={props.label}
      disabled={props.disabled}
      onClick={props.act}
    >
      {props.children}
    </button>
  );
}
