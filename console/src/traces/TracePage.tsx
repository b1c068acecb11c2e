import { ArrowLeft, Download } from "lucide-react";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import type { Trace, TraceComparison, TraceLine } from "../api/client";
import { Answered } from "../parts/States";
import { Diagnoses } from "./Diagnoses";
import { Sequence } from "./Sequence";
import { useComparison, useTrace } from "./useTrace";

export function TracePage() {
  const { who = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const other = params.get("against") ?? "";
  const trace = useTrace(who);
  const comparison = useComparison(who, other);
  const name = trace.data?.who ?? who;
  // A newcomer is called by its MAC address; a registered machine has a page of its own.
  const registered = !name.includes(":");
  const back = registered ? `/machines/${name}` : "/newcomers";
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to={back} className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> {registered ? name : "Newcomers"}
      </Link>
      <div className="mt-1 mb-4 flex flex-wrap items-center gap-x-5 gap-y-2">
        <h1 className="text-lg font-semibold">{name} on the wire</h1>
        <Against
          other={other}
          change={(next) => {
            setParams(next ? { against: next } : {});
          }}
        />
        <a className="btn btn-sm" href={`/api/v1/traces/${encodeURIComponent(who)}/capture`} download>
          <Download className="size-4" aria-hidden /> Capture file
        </a>
      </div>
      {other ? (
        <Answered query={comparison}>{(beside) => <Beside comparison={beside} />}</Answered>
      ) : (
        <Answered query={trace}>{(whole) => <Story trace={whole} />}</Answered>
      )}
    </div>
  );
}

function Against({ other, change }: { other: string; change: (other: string) => void }) {
  const [text, setText] = useState(other);
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        change(text.trim());
      }}
    >
      <label className="input input-sm w-64">
        <span className="text-base-content/70">beside</span>
        <input
          value={text}
          placeholder="a machine that worked"
          aria-label="Lay another machine's last boot beside it"
          onChange={(event) => {
            setText(event.target.value);
          }}
        />
      </label>
      <button type="submit" className="btn btn-sm">
        Compare
      </button>
      {other && (
        <button
          type="button"
          className="btn btn-ghost btn-sm"
          onClick={() => {
            setText("");
            change("");
          }}
        >
          Alone
        </button>
      )}
    </form>
  );
}

function Story({ trace }: { trace: Trace }) {
  return (
    <div className="max-w-5xl">
      {trace.diagnoses.length > 0 && (
        <div className="mb-5">
          <Diagnoses diagnoses={trace.diagnoses} />
        </div>
      )}
      <Sequence lines={trace.lines} lastBoot={trace.last_boot} />
    </div>
  );
}

function Beside({ comparison }: { comparison: TraceComparison }) {
  const line = (trace: Trace, number: number | null | undefined) =>
    trace.lines.find((line) => line.number === number);
  return (
    <>
      <p className="mb-3 max-w-prose">
        {comparison.first_difference == null ? "Both did the same." : "The first difference is marked."}
      </p>
      <table className="w-full table-fixed text-left">
        <thead>
          <tr className="border-b border-base-300">
            <th className="p-2 font-semibold">{comparison.left.who}</th>
            <th className="p-2 font-semibold">{comparison.right.who}</th>
          </tr>
        </thead>
        <tbody>
          {comparison.pairs.map((pair, index) => {
            const first = index === comparison.first_difference;
            const look = first ? "border-l-4 border-error bg-base-200" : pair.same ? "" : "bg-base-200/60";
            return (
              <tr key={index} className={`border-b border-base-200 align-top ${look}`}>
                <Cell line={line(comparison.left, pair.left)} mark={first ? "first difference" : ""} />
                <Cell line={line(comparison.right, pair.right)} mark="" />
              </tr>
            );
          })}
        </tbody>
      </table>
      <div className="mt-4 max-w-5xl">
        <Diagnoses diagnoses={comparison.left.diagnoses} />
      </div>
    </>
  );
}

function Cell({ line, mark }: { line: TraceLine | undefined; mark: string }) {
  return (
    <td className="p-2 break-words">
      {mark && <div className="text-xs font-semibold text-error">{mark}</div>}
      {line ? (
        <>
          <div className="font-medium">{line.asked}</div>
          <div className={line.mark === "trouble" ? "text-error" : "text-base-content/80"}>→ {line.got}</div>
        </>
      ) : (
        <span className="text-base-content/60">nothing</span>
      )}
    </td>
  );
}
