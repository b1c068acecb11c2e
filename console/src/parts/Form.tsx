import type { ReactNode } from "react";

import { conflictOf, faultsOf } from "../api/client";
import { Prose } from "./Prose";

/** Whether a fault's place is a field, or inside it: `macs[0]` is of `macs`. */
const isOf = (place: string, field: string) =>
  place === field || place.startsWith(`${field}[`) || place.startsWith(`${field}.`);

/** What is wrong with one field, below it. */
function FieldFaults({ field, error }: { field: string; error: Error | null }) {
  const faults = faultsOf(error).filter(({ place }) => isOf(place, field));
  return faults.map(({ place, what, fix }) => (
    <p key={place + what} role="alert" className="mt-0.5 text-error">
      {what}. <span className="text-base-content/75"><Prose text={fix} /></span>
    </p>
  ));
}

/** A field with its name above and what is wrong with it below. */
export function Field(props: {
  /** The field's name in the API, by which faults find it. */
  field: string;
  label: string;
  hint?: string;
  error: Error | null;
  children: ReactNode;
}) {
  return (
    <div>
      <label className="block">
        <span className="block font-medium">{props.label}</span>
        {props.children}
        {props.hint !== undefined && <span className="block text-xs text-base-content/70">{props.hint}</span>}
      </label>
      <FieldFaults field={props.field} error={props.error} />
    </div>
  );
}

/** What is wrong with a form and with none of these fields. That somebody else changed it meanwhile is told by `Conflict`. */
export function OtherFaults({ fields, error }: { fields: string[]; error: Error | null }) {
  if (!error || conflictOf(error) !== undefined) {
    return null;
  }
  const faults = faultsOf(error);
  const others = faults.filter(({ place }) => !fields.some((field) => isOf(place, field)));
  if (faults.length > 0 && others.length === 0) {
    return <p role="alert" className="text-error">Nothing was saved: see the fields that are marked.</p>;
  }
  return (
    <div role="alert" className="border-l-4 border-error pl-3">
      <p className="font-semibold">Nothing was saved.</p>
      {faults.length === 0 && <p>{error.message}</p>}
      {others.map(({ place, what, fix }) => (
        <p key={place + what}>
          <code>{place}</code>: {what}. <Prose text={fix} />
        </p>
      ))}
    </div>
  );
}

/** Words of a text, separated by blanks or commas. */
export const words = (text: string): string[] => text.split(/[\s,]+/).filter((word) => word !== "");

/** Lines of a text that say something. */
export const lines = (text: string): string[] =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter((line) => line !== "");

/** The pairs of a text that has `name=value` on each line. */
export const pairs = (text: string): Record<string, string> =>
  Object.fromEntries(
    lines(text).map((line): [string, string] => {
      const at = line.indexOf("=");
      return at < 0 ? [line, ""] : [line.slice(0, at).trim(), line.slice(at + 1).trim()];
    }),
  );

/** Pairs as a text that has one on each line. */
export const pairLines = (all: Record<string, string>): string =>
  Object.entries(all)
    .map(([name, value]) => `${name}=${value}`)
    .join("\n");
