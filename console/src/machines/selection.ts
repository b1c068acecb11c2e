import { useState } from "react";

import { answer, api } from "../api/client";
import { type Filter, queryOf } from "./useMachines";

/** Names read at once, which is the most that the service gives. */
const PAGE = 1000;

/** Which machines are selected: some by name, or everything that the filter lets through. */
export interface Selection {
  names: ReadonlySet<string>;
  /** Everything that matches the filter, drawn or not. */
  everything: boolean;
}

const NONE: Selection = { names: new Set(), everything: false };

/** The selection of a list, and what changes it. It goes when the filter changes: what cannot be seen is not acted on. */
export function useSelection(filter: Filter) {
  const [selection, setSelection] = useState(NONE);
  const [last, setLast] = useState<string>();
  const key = JSON.stringify(queryOf(filter));
  const [kept, setKept] = useState(key);
  if (kept !== key) {
    setKept(key);
    setSelection(NONE);
  }
  return {
    selection,
    has: (name: string) => selection.everything || selection.names.has(name),
    /** Selects one row or no longer; with `to`, all rows from the one that was last touched. */
    toggle: (name: string, range: string[]) => {
      const names = new Set(selection.everything ? range : selection.names);
      const on = !names.has(name);
      for (const one of range.length > 0 ? range : [name]) {
        if (on) {
          names.add(one);
        } else {
          names.delete(one);
        }
      }
      setLast(name);
      setSelection({ names, everything: false });
    },
    last,
    all: () => {
      setSelection({ names: new Set(), everything: true });
    },
    none: () => {
      setSelection(NONE);
    },
  };
}

/** The names of what is selected. */
export async function namesOf(selection: Selection, filter: Filter): Promise<string[]> {
  if (!selection.everything) {
    return [...selection.names];
  }
  const names: string[] = [];
  for (;;) {
    const query = { ...queryOf(filter), sort: "name" as const, limit: PAGE, offset: names.length };
    const page = answer(await api.GET("/api/v1/machines", { params: { query } }));
    names.push(...page.machines.map(({ name }) => name));
    if (page.machines.length < PAGE) {
      return names;
    }
  }
}
