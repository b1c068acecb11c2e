import type { EffectView, FailingPart, KeptView } from "../api/client";

/** A place among a machine's values, as people say it. */
const placeOf = (what: string) => (what.startsWith("labels.") ? "label" : what === "default_boot" ? "default boot" : what.replace("details.", ""));

/** What rules would change of one machine, or why they cannot. */
export function Effects({ effects, byRule = false }: { effects: EffectView[]; byRule?: boolean }) {
  return (
    <ul className="flex flex-wrap gap-x-4 gap-y-0.5">
      {effects.map((effect) => (
        <li key={effect.what} className={effect.obstacle == null ? "" : "basis-full"}>
          <span className="text-base-content/70">{placeOf(effect.what)}</span>{" "}
          {effect.before != null && effect.before !== "" && <span className="line-through opacity-70">{effect.before}</span>}{" "}
          <span className="font-medium break-words">{effect.after}</span>
          {byRule && <span className="text-base-content/70"> by {effect.rule}</span>}
          {effect.obstacle != null && <span className="text-error"> not possible: {effect.obstacle}</span>}
        </li>
      ))}
    </ul>
  );
}

/** The parts of a condition that do not hold. */
export function Failing({ parts }: { parts: FailingPart[] }) {
  return (
    <ul>
      {parts.map(({ part, why }) => (
        <li key={part}>
          <code className="break-all">{part}</code>
          {why != null && <span className="text-base-content/70"> {why}</span>}
        </li>
      ))}
    </ul>
  );
}

/** What rules leave as a person has said. */
export function Kept({ kept }: { kept: KeptView[] }) {
  return (
    <ul className="text-base-content/75">
      {kept.map(({ what, why, rule }) => (
        <li key={`${rule} ${what}`}>
          {placeOf(what)} stays: {why}
        </li>
      ))}
    </ul>
  );
}
