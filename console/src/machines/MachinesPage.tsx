import { Search, X } from "lucide-react";
import { useEffect, useRef } from "react";
import { Link, useSearchParams } from "react-router";

import type { Stage } from "../api/client";
import { Empty, Failed, Loading } from "../parts/States";
import { MachineTable } from "./MachineTable";
import { type Filter, type Sort, useMachineCounts } from "./useMachines";

/** What a person looks for first, and the stages it stands for. */
const GROUPS: { name: string; stages: Stage[]; tone: string }[] = [
  { name: "Needs somebody", stages: ["failed", "stalled"], tone: "border-error" },
  { name: "Under way", stages: ["installing", "booting", "armed"], tone: "border-accent" },
  { name: "At rest", stages: ["idle", "installed"], tone: "border-success" },
];

/** The filter lives in the address, so that it can be sent to somebody. */
function useFilter(): [Filter, (change: Partial<Filter>) => void] {
  const [params, setParams] = useSearchParams();
  const stages = params.get("stage");
  const filter: Filter = {
    text: params.get("text") ?? "",
    label: params.get("label") ?? "",
    stages: stages ? (stages.split(",") as Stage[]) : [],
    sort: (params.get("sort") as Sort | null) ?? "stage",
    reverse: params.get("reverse") === "true",
  };
  const change = (part: Partial<Filter>) => {
    const next = { ...filter, ...part };
    const entries: [string, string][] = [
      ["text", next.text],
      ["label", next.label],
      ["stage", next.stages.join(",")],
      ["sort", next.sort === "stage" ? "" : next.sort],
      ["reverse", next.reverse ? "true" : ""],
    ];
    setParams(entries.filter(([, value]) => value !== ""), { replace: true });
  };
  return [filter, change];
}

export function MachinesPage() {
  const [filter, change] = useFilter();
  const counts = useMachineCounts(filter);
  const all = Object.values(counts.data?.stages ?? {}).reduce((sum, count) => sum + count, 0);
  return (
    <>
      <h1 className="sr-only">Machines</h1>
      <div className="mb-3 flex flex-wrap items-stretch gap-2">
        {GROUPS.map((group) => (
          <Group
            key={group.name}
            {...group}
            count={group.stages.reduce((sum, stage) => sum + (counts.data?.stages[stage] ?? 0), 0)}
            chosen={filter.stages.join() === group.stages.join()}
            choose={(chosen) => {
              change({ stages: chosen ? group.stages : [] });
            }}
          />
        ))}
        {filter.label !== "" && (
          <button
            type="button"
            className="btn btn-sm self-center"
            aria-label={`Show machines without the label ${filter.label}, too`}
            onClick={() => {
              change({ label: "" });
            }}
          >
            {filter.label} <X className="size-3.5" aria-hidden />
          </button>
        )}
        <span className="flex items-center gap-3 self-center px-1 text-base-content/75 sm:ml-auto">
          <Link to={filter.label ? `/arm?label=${encodeURIComponent(filter.label)}` : "/arm"} className="link-hover">
            Arm
          </Link>
          <Link
            to={filter.label ? `/naming?label=${encodeURIComponent(filter.label)}` : "/naming"}
            className="link-hover"
          >
            Name
          </Link>
          <Link to="/exports" className="link-hover">
            Export
          </Link>
        </span>
        <SearchField
          text={filter.text}
          change={(text) => {
            change({ text });
          }}
        />
      </div>
      <Failed query={counts} />
      {counts.isPending && <Loading />}
      {counts.data && all === 0 && (
        <Empty title="No machine is registered yet">
          Register one with <code>lastmile machine add NAME --mac ADDRESS</code>. It appears here at once.
        </Empty>
      )}
      {counts.data && all > 0 && counts.data.total === 0 && (
        <Empty title="No machine fits">
          <button
            type="button"
            className="btn btn-sm mt-2"
            onClick={() => {
              change({ text: "", label: "", stages: [] });
            }}
          >
            Show all {all}
          </button>
        </Empty>
      )}
      {counts.data && counts.data.total > 0 && (
        <MachineTable filter={filter} total={counts.data.total} change={change} />
      )}
    </>
  );
}

function Group(props: {
  name: string;
  tone: string;
  count: number;
  chosen: boolean;
  choose: (chosen: boolean) => void;
}) {
  const quiet = props.count === 0 && !props.chosen;
  return (
    <button
      type="button"
      aria-pressed={props.chosen}
      onClick={() => {
        props.choose(!props.chosen);
      }}
      className={`flex min-w-28 flex-1 cursor-pointer items-baseline gap-2 border-l-4 px-2 py-2 text-left sm:flex-none sm:px-3 ${
        props.tone
      } ${props.chosen ? "bg-base-300" : "bg-base-200 hover:bg-base-300"} ${quiet ? "opacity-70" : ""}`}
    >
      <span className="text-lg font-semibold">{props.count}</span>
      <span className="max-sm:text-xs">{props.name}</span>
    </button>
  );
}

function SearchField({ text, change }: { text: string; change: (text: string) => void }) {
  const field = useRef<HTMLInputElement>(null);
  // The address follows the field while somebody types, and the field follows the address otherwise: bound to
  // the address at every letter, fast typing would lose some.
  useEffect(() => {
    if (field.current && document.activeElement !== field.current) {
      field.current.value = text;
    }
  }, [text]);
  useEffect(() => {
    const focus = (event: KeyboardEvent) => {
      if (event.key === "/" && !(event.target instanceof HTMLInputElement)) {
        event.preventDefault();
        field.current?.focus();
      }
    };
    window.addEventListener("keydown", focus);
    return () => {
      window.removeEventListener("keydown", focus);
    };
  }, []);
  return (
    <label className="input w-full self-center sm:w-80">
      <Search className="size-4 opacity-60" aria-hidden />
      <input
        ref={field}
        type="search"
        defaultValue={text}
        placeholder="Name, address, label, image"
        aria-label="Filter machines"
        onChange={(event) => {
          change(event.target.value);
        }}
      />
      <kbd className="kbd kbd-xs hidden sm:inline-flex">/</kbd>
    </label>
  );
}
