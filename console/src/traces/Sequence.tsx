import { Fragment, useState } from "react";

import type { TraceLine } from "../api/client";

const ARROWS: Record<TraceLine["mark"], string> = {
  good: "text-secondary",
  quiet: "text-base-content/40",
  trouble: "text-error",
};

/**
 * What passed between the machine and the service: the machine stands on the left, the service on the right, time
 * runs down. Each question goes to the right and its answer comes back.
 */
export function Sequence({ lines, lastBoot }: { lines: TraceLine[]; lastBoot: number | null | undefined }) {
  if (lines.length === 0) {
    return <p>Nothing since the service started: no question of this machine reached it.</p>;
  }
  return (
    <div>
      <div className="sequence-grid sticky top-0 z-1 grid bg-base-100 py-1 text-xs text-base-content/70">
        <span />
        <span className="border-l-2 border-secondary pl-2">the machine</span>
        <span className="border-r-2 border-secondary pr-2 text-right">this service</span>
      </div>
      <ol>
        {lines.map((line) => (
          <Fragment key={line.number}>
            {line.number === lastBoot && line !== lines[0] && (
              <li className="my-2 flex items-center gap-3 text-xs text-base-content/70">
                <span className="h-px flex-1 bg-base-300" /> switched on again <span className="h-px flex-1 bg-base-300" />
              </li>
            )}
            <Exchange line={line} />
          </Fragment>
        ))}
      </ol>
    </div>
  );
}

function Exchange({ line }: { line: TraceLine }) {
  const [open, setOpen] = useState(false);
  const tone = ARROWS[line.mark];
  const options = [...(line.asked_options ?? []), ...(line.got_options ?? [])].length > 0;
  return (
    <li className="sequence-grid group grid">
      <time className="pt-1 text-xs text-base-content/70" dateTime={line.at}>
        {instant(line.at)}
      </time>
      <div className="col-span-2 min-w-0 border-x-2 border-secondary/40 px-2 py-1 group-hover:bg-base-200">
        <div className="flex items-baseline gap-2">
          <span className="min-w-0 font-medium break-words">{line.asked}</span>
          <Arrow tone={tone} to="right" />
        </div>
        <div className="flex items-baseline gap-2">
          <Arrow tone={tone} to="left" />
          <span className={`min-w-0 text-right break-words ${line.mark === "trouble" ? "font-semibold text-error" : ""}`}>
            {line.got}
          </span>
        </div>
        {line.why && <p className="text-right text-xs text-base-content/70">because {line.why}</p>}
        {options && (
          <button
            type="button"
            className="link-hover text-xs text-base-content/70"
            aria-expanded={open}
            onClick={() => {
              setOpen(!open);
            }}
          >
            {open ? "hide the options" : "options"}
          </button>
        )}
        {open && (
          <div className="grid gap-x-6 text-xs sm:grid-cols-2">
            <Options options={line.asked_options ?? []} />
            <Options options={line.got_options ?? []} />
          </div>
        )}
      </div>
    </li>
  );
}

function Options({ options }: { options: { code: number; name: string; value: string }[] }) {
  return (
    <dl className="grid grid-cols-[minmax(0,10rem)_minmax(0,1fr)] content-start gap-x-2">
      {options.map((option) => (
        <Fragment key={option.code}>
          <dt className="truncate text-base-content/70">
            {option.code} {option.name}
          </dt>
          <dd className="font-mono break-all">{option.value}</dd>
        </Fragment>
      ))}
    </dl>
  );
}

function Arrow({ tone, to }: { tone: string; to: "left" | "right" }) {
  return (
    <span aria-hidden className={`flex min-w-6 flex-1 items-center ${tone}`}>
      {to === "left" && <Head d="M8 0L0 4L8 8z" />}
      <span className="h-px flex-1 bg-current" />
      {to === "right" && <Head d="M0 0L8 4L0 8z" />}
    </span>
  );
}

function Head({ d }: { d: string }) {
  return (
    <svg viewBox="0 0 8 8" width="8" height="8" className="shrink-0">
      <path d={d} fill="currentColor" />
    </svg>
  );
}

/** The time of day to the millisecond: packets follow each other closely. */
function instant(at: string): string {
  const date = new Date(at);
  return `${date.toLocaleTimeString(undefined, { hour12: false })}.${date.getMilliseconds().toString().padStart(3, "0")}`;
}
