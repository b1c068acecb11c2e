import made from "./fields.gen.json";

/** A key of the settings, as crates/api/src/settings reads it from their schema. */
export interface Field {
  key: string;
  label: string;
  help: string;
  example?: unknown;
  required?: boolean;
  kind: string;
  /** The words of a choice. */
  choices?: string[];
  /** The keys of a table, or of each in a list. */
  fields?: Field[];
  /** What each of those with a name is. */
  of?: { kind: string; fields?: Field[] };
  /** What one of several is called. */
  one?: string;
}

/** All keys of the settings, in their order. */
export const FIELDS: readonly Field[] = made;

/** Whether a key is one value, and not a table or several. */
export function isPlain(field: Field): boolean {
  return field.fields === undefined && field.of === undefined;
}

/** What a new one of several holds: the keys that it cannot be without. */
export function fresh(fields: readonly Field[] | undefined): unknown {
  if (fields === undefined) {
    return "#!/bin/sh\n";
  }
  return Object.fromEntries(fields.filter((field) => field.required).map((field) => [field.key, ""]));
}
