import type { SettingsDraft } from "../api/client";

/** A place in settings: the keys on the way to it. */
export type Path = readonly (string | number)[];

type Tree = Record<string, unknown>;

function isTree(value: unknown): value is Tree {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** What stands at a place; nothing if it is not said. */
export function at(tree: unknown, path: Path): unknown {
  let value = tree;
  for (const key of path) {
    if (Array.isArray(value) && typeof key === "number") {
      value = (value as unknown[])[key];
    } else if (isTree(value)) {
      value = value[key];
    } else {
      return undefined;
    }
  }
  return value;
}

function isNothing(value: unknown): boolean {
  return value === undefined || value === "" || (Array.isArray(value) && value.length === 0);
}

/** The settings with another value at a place. A place that says nothing any more is taken away. */
export function put(settings: SettingsDraft, path: Path, value: unknown): SettingsDraft {
  return (placed(settings, path, value) ?? {});
}

function placed(tree: unknown, path: Path, value: unknown): unknown {
  const [key, ...rest] = path;
  if (key === undefined) {
    return isNothing(value) ? undefined : value;
  }
  if (typeof key === "number") {
    const list = Array.isArray(tree) ? [...(tree as unknown[])] : [];
    const item = placed(list[key], rest, value);
    if (item === undefined) {
      list.splice(key, 1);
    } else {
      list[key] = item;
    }
    return list.length === 0 ? undefined : list;
  }
  const next: Tree = isTree(tree) ? { ...tree } : {};
  const item = placed(next[key], rest, value);
  if (item === undefined) {
    // eslint-disable-next-line @typescript-eslint/no-dynamic-delete -- a copy, and the key is the place's own
    delete next[key];
  } else {
    next[key] = item;
  }
  return next;
}

/** The keys of a table at a place, in their order. */
export function keysAt(tree: unknown, path: Path): string[] {
  const value = at(tree, path);
  return isTree(value) ? Object.keys(value).sort() : [];
}

/** A value in a few words, for what a field would hold if it were left empty. */
export function inWords(value: unknown): string {
  if (Array.isArray(value)) {
    return value.map(inWords).join(", ");
  }
  if (typeof value === "string" || typeof value === "number" || typeof value === "boolean") {
    return String(value);
  }
  return "";
}

/** Which lines of a text are not in another: those that changed. */
export function changedLines(before: string | undefined, text: string): Set<number> {
  const left = new Map<string, number>();
  for (const line of (before ?? text).split("\n")) {
    left.set(line, (left.get(line) ?? 0) + 1);
  }
  const changed = new Set<number>();
  text.split("\n").forEach((line, index) => {
    const count = left.get(line) ?? 0;
    if (count === 0) {
      changed.add(index);
    } else {
      left.set(line, count - 1);
    }
  });
  return changed;
}
