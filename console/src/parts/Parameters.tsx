import type { Parameter } from "../api/client";

/** Where a kernel parameter comes from, in a word or two. */
function origin(from: Parameter["origin"]): string {
  return typeof from === "string" ? from : `label ${from.label}`;
}

/** Kernel parameters, each with its origin. */
export function Parameters({ words }: { words: Parameter[] }) {
  return (
    <ul className="space-y-0.5">
      {words.map((parameter) => (
        <li key={parameter.word} className="flex flex-wrap gap-x-3">
          <code className="break-all">{parameter.word}</code>
          <span className="text-base-content/70">
            {origin(parameter.origin)}
            {parameter.replaces.length > 0 && `, in the place of ${parameter.replaces.join(" ")}`}
          </span>
        </li>
      ))}
    </ul>
  );
}
