import type { FactsDifference } from "../api/client";

/** What was measured differently, each in one line. */
export function Changes({ changes, none }: { changes: FactsDifference[]; none: string }) {
  if (changes.length === 0) {
    return <span className="text-base-content/70">{none}</span>;
  }
  return (
    <ul>
      {changes.map(({ place, before, now }) => (
        <li key={place}>
          <span className="text-base-content/70">{place}</span>{" "}
          {before == null ? `${now ?? ""} is new` : now == null ? `${before} is gone` : `${before} → ${now}`}
        </li>
      ))}
    </ul>
  );
}
