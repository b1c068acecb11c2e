import { useState } from "react";

import { MachinePicker } from "../parts/MachinePicker";
import { useRested } from "../parts/rested";
import { Failed } from "../parts/States";
import { When } from "../parts/Time";
import { type Sides, useComparison, useVersions } from "./useAnswers";
import { Preformatted } from "../parts/Preformatted";

/** Every version, and what one changed of another. */
export function Versions({ name, current }: { name: string; current: number }) {
  const versions = useVersions(name);
  const [from, setFrom] = useState(Math.max(1, current - 1));
  const [to, setTo] = useState(current);
  const [left, setLeft] = useState("");
  const [right, setRight] = useState("");
  const rested = useRested(
    JSON.stringify({ from, to, ...(left && { machine: left }), ...(left && right && { other: right }) }),
  );
  const differ = from !== to || (left !== "" && right !== "" && left !== right);
  const comparison = useComparison(name, JSON.parse(rested) as Sides, differ);
  const numbers = (versions.data ?? []).map((version) => version.version);
  const choice = (label: string, value: number, set: (value: number) => void) => (
    <label className="flex items-center gap-2">
      {label}
      <select
        className="select select-sm w-56"
        value={value}
        onChange={(event) => {
          set(Number(event.target.value));
        }}
      >
        {(versions.data ?? []).map((version) => (
          <option key={version.version} value={version.version}>
            v{version.version}, <When at={version.created} />
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <section aria-label="Versions" className="max-w-4xl">
      <Failed query={versions} />
      {numbers.length === 1 ? (
        <p className="mb-3 text-base-content/75">There is one version.</p>
      ) : (
        <div className="mb-3 flex flex-wrap gap-4">
          {choice("From", from, setFrom)}
          {choice("to", to, setTo)}
        </div>
      )}
      <div className="mb-3 flex flex-wrap items-center gap-4">
        As read by
        <MachinePicker label="Machine on the left" hint="nobody: the settings" value={left} change={setLeft} />
        and
        <MachinePicker label="Machine on the right" hint="the same" value={right} change={setRight} />
      </div>
      <Failed query={comparison} />
      {comparison.data && differ && (
        <Preformatted label="Comparison" className="rounded border border-base-300 bg-base-200 py-2 text-xs leading-5">
          {comparison.data.lines.map((line, index) => (
            <div
              key={index}
              className={
                line.side === "left" ? "bg-error/15 px-3" : line.side === "right" ? "bg-success/20 px-3" : "px-3"
              }
            >
              {line.side === "left" ? "- " : line.side === "right" ? "+ " : "  "}
              {line.text}
            </div>
          ))}
        </Preformatted>
      )}
    </section>
  );
}
