import { Plus, Rows3, Rows4, Search, SlidersHorizontal, Upload, X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { useDensity } from "../parts/density";
import { Empty, Failed, Loading } from "../parts/States";
import { ActionBar } from "./ActionBar";
import { ALL_COLUMNS, MachineTable } from "./MachineTable";
import { useSelection } from "./selection";
import { WhereField } from "./WhereField";
import { type ColumnKey, type Filter, type Sort, useMachineCounts, type Wanted } from "./useMachines";

/** What a person looks for first, and the stages it stands for. */
const GROUPS: { name: string; stages: Wanted[]; tone: string }[] = [
  { name: "Needs attention", stages: ["failed", "stalled", "differs"], tone: "border-error" },
  { name: "In progress", stages: ["installing", "booting", "armed"], tone: "border-accent" },
  { name: "At rest", stages: ["idle", "installed"], tone: "border-success" },
];
const KEYS = ALL_COLUMNS.map(({ key }) => key);

/** Filter and columns live in the address, so that they can be sent to somebody. */
function useFilter(): [Filter, (change: Partial<Filter>) => void] {
  const [params, setParams] = useSearchParams();
  const stages = params.get("stage");
  const columns = params.get("columns");
  const filter: Filter = {
    text: params.get("text") ?? "",
    label: params.get("label") ?? "",
    stages: stages ? (stages.split(",") as Wanted[]) : [],
    where: params.get("where") ?? "",
    sort: (params.get("sort") as Sort | null) ?? "stage",
    reverse: params.get("reverse") === "true",
    facts: (params.get("facts") ?? "").split(";").filter((one) => one.trim() !== ""),
    sortBy: params.get("sort_by") ?? "",
    columns: columns === null ? KEYS : (columns.split(",").filter((key) => KEYS.includes(key as ColumnKey)) as ColumnKey[]),
  };
  const change = (part: Partial<Filter>) => {
    const next = { ...filter, ...part };
    const entries: [string, string][] = [
      ["text", next.text],
      ["label", next.label],
      ["stage", next.stages.join(",")],
      ["where", next.where],
      ["sort", next.sort === "stage" ? "" : next.sort],
      ["facts", next.facts.join(";")],
      ["sort_by", next.facts.includes(next.sortBy) ? next.sortBy : ""],
      ["reverse", next.reverse ? "true" : ""],
      ["columns", next.columns.length === KEYS.length ? "" : next.columns.join(",") || "none"],
    ];
    setParams(entries.filter(([, value]) => value !== ""), { replace: true });
  };
  return [filter, change];
}

/** All machines: found, ordered, selected, and acted on. */
export function MachinesPage() {
  const [filter, change] = useFilter();
  const [compact, setCompact] = useDensity();
  const [asks, setAsks] = useState(filter.where !== "");
  const counts = useMachineCounts(filter);
  const selected = useSelection(filter);
  const stages = Object.entries(counts.data?.stages ?? {});
  const all = stages.reduce((sum, [stage, count]) => sum + (stage === "differs" ? 0 : count), 0);
  const total = counts.data?.total ?? 0;
  const count = selected.selection.everything ? total : selected.selection.names.size;
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <h1 className="mr-2 text-lg font-semibold max-sm:sr-only">Machines</h1>
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
            className="btn btn-sm"
            aria-label={`No longer only those with label ${filter.label}`}
            onClick={() => {
              change({ label: "" });
            }}
          >
            {filter.label} <X className="size-3.5" aria-hidden />
          </button>
        )}
        <SearchField
          text={filter.text}
          change={(text) => {
            change({ text });
          }}
        />
        <span className="ml-auto flex items-center gap-1">
          <button
            type="button"
            className="btn btn-ghost btn-sm btn-square"
            aria-label="Filter by what was measured"
            aria-expanded={asks}
            onClick={() => {
              setAsks(!asks);
            }}
          >
            <SlidersHorizontal className="size-4" aria-hidden />
          </button>
          <Columns filter={filter} change={change} />
          <button
            type="button"
            className="btn btn-ghost btn-sm btn-square"
            aria-label={compact ? "Use taller rows" : "Use compact rows"}
            aria-pressed={compact}
            onClick={() => {
              setCompact(!compact);
            }}
          >
            {compact ? <Rows3 className="size-4" /> : <Rows4 className="size-4" />}
          </button>
          <Link to="/import-machines" className="btn btn-sm">
            <Upload className="size-4" aria-hidden /> Import
          </Link>
          <Link to="/new-machine" className="btn btn-primary btn-sm">
            <Plus className="size-4" aria-hidden /> Add
          </Link>
        </span>
      </div>
      {asks && (
        <WhereField
          key={filter.where}
          condition={filter.where}
          change={(where) => {
            change({ where });
          }}
        />
      )}
      <Failed query={counts} />
      {counts.isPending && <Loading />}
      {counts.data && all === 0 && (
        <Empty title="No machine is registered yet">
          <p>Add one, import a list, or adopt machines that were seen on the network.</p>
          <p className="mt-3 flex flex-wrap justify-center gap-2">
            <Link to="/new-machine" className="btn btn-primary btn-sm">
              Add a machine
            </Link>
            <Link to="/import-machines" className="btn btn-sm">
              Import from CSV
            </Link>
            <Link to="/newcomers" className="btn btn-sm">
              Newcomers
            </Link>
          </p>
        </Empty>
      )}
      {counts.data && all > 0 && total === 0 && (
        <Empty title="No machine matches">
          <button
            type="button"
            className="btn btn-sm mt-2"
            onClick={() => {
              change({ text: "", label: "", stages: [], where: "" });
            }}
          >
            Show all {all}
          </button>
        </Empty>
      )}
      {total > 0 && (
        <MachineTable filter={filter} total={total} change={change} compact={compact} selected={selected} />
      )}
      {count > 0 && (
        <ActionBar selection={selected.selection} count={count} filter={filter} clear={selected.none} />
      )}
    </>
  );
}

function Columns({ filter, change }: { filter: Filter; change: (part: Partial<Filter>) => void }) {
  return (
    <details className="dropdown dropdown-end max-lg:hidden">
      <summary className="btn btn-ghost btn-sm">Columns</summary>
      <ul className="dropdown-content z-10 mt-1 w-60 border border-base-300 bg-base-100 p-2 shadow">
        {ALL_COLUMNS.map(({ key, name }) => (
          <li key={key}>
            <label className="flex cursor-pointer items-center gap-2 py-0.5">
              <input
                type="checkbox"
                className="checkbox checkbox-xs rounded-sm"
                checked={filter.columns.includes(key)}
                onChange={({ target }) => {
                  const without = filter.columns.filter((other) => other !== key);
                  change({ columns: target.checked ? KEYS.filter((one) => one === key || without.includes(one)) : without });
                }}
              />
              {name}
            </label>
          </li>
        ))}
        {filter.facts.map((fact) => (
          <li key={fact} className="flex items-center gap-2 py-0.5">
            <code className="min-w-0 flex-1 truncate text-xs">{fact}</code>
            <button
              type="button"
              className="btn btn-ghost btn-xs btn-square"
              aria-label={`Remove the column ${fact}`}
              onClick={() => {
                change({ facts: filter.facts.filter((other) => other !== fact) });
              }}
            >
              <X className="size-3.5" aria-hidden />
            </button>
          </li>
        ))}
        <li className="mt-1 border-t border-base-300 pt-1">
          <AddColumn
            add={(fact) => {
              change({ facts: [...filter.facts.filter((other) => other !== fact), fact] });
            }}
          />
        </li>
      </ul>
    </details>
  );
}

/** What people look for first of what was measured; anything else can be typed. */
const FACTS = ["product", "serial", "memory_gib", "cores", "disks | length", "disks_gib", "firmware.version", "switch", "port", "location.rack"];

function AddColumn({ add }: { add: (fact: string) => void }) {
  const [typed, setTyped] = useState("");
  return (
    <form
      className="flex items-center gap-1"
      onSubmit={(event) => {
        event.preventDefault();
        if (typed.trim() !== "") {
          add(typed.trim());
          setTyped("");
        }
      }}
    >
      <input
        className="input input-xs w-full font-mono"
        aria-label="A column of what was measured"
        placeholder="memory_gib"
        list="fact-columns"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
        }}
      />
      <datalist id="fact-columns">
        {FACTS.map((fact) => (
          <option key={fact} value={fact} />
        ))}
      </datalist>
      <button type="submit" className="btn btn-xs">
        Add
      </button>
    </form>
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
      className={`flex cursor-pointer items-baseline gap-2 border-l-4 px-2 py-0.5 text-left ${
        props.tone
      } ${props.chosen ? "bg-base-300" : "bg-base-200 hover:bg-base-300"} ${quiet ? "opacity-70" : ""}`}
    >
      <span className="font-semibold">{props.count}</span>
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
    <label className="input input-sm w-full sm:w-56">
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
