import { ArrowDown, ArrowUp } from "lucide-react";
import { Link } from "react-router";

import type { MachineRow } from "../api/client";
import { Route } from "../parts/Route";
import { StateMark } from "../parts/StateMark";
import { VirtualRows } from "../parts/VirtualRows";
import { ago, useNow } from "../parts/time";
import { routeState } from "./routeState";
import { type Filter, type Sort, useMachineRows } from "./useMachines";

const ROW_PX = 40;
const NARROW_ROW_PX = 64;

const COLUMNS: { name: string; sort?: Sort; show: string }[] = [
  { name: "Machine", sort: "name", show: "" },
  { name: "Way", show: "hidden sm:block" },
  { name: "Stage", sort: "stage", show: "" },
  { name: "Holds", sort: "image", show: "hidden sm:block" },
  { name: "Labels", show: "hidden xl:block" },
  { name: "Address", show: "hidden lg:block" },
  { name: "MAC", show: "hidden lg:block" },
  { name: "Seen", sort: "seen", show: "hidden lg:block" },
];

/** All machines that the filter lets through, however many. */
export function MachineTable(props: { filter: Filter; total: number; change: (part: Partial<Filter>) => void }) {
  const now = useNow();
  // Whatever page is scrolled to is read when it is drawn.
  const narrow = window.matchMedia("(max-width: 639px)").matches;
  return (
    <VirtualRows
      label="Machines"
      count={props.total}
      height={narrow ? NARROW_ROW_PX : ROW_PX}
      head={<Head filter={props.filter} change={props.change} />}
      row={(index) => <Row filter={props.filter} index={index} now={now} />}
    />
  );
}

function Head({ filter, change }: { filter: Filter; change: (part: Partial<Filter>) => void }) {
  return (
    <div role="row" className="machine-grid grid gap-x-3 px-2 py-1.5 text-xs text-base-content/70">
      {COLUMNS.map(({ name, sort, show }) => {
        const sorted = sort !== undefined && filter.sort === sort;
        const order = sorted ? (filter.reverse ? "descending" : "ascending") : "none";
        return (
          <div key={name} role="columnheader" aria-sort={order} className={show}>
            {sort ? (
              <button
                type="button"
                className="flex cursor-pointer items-center gap-1 hover:underline"
                onClick={() => {
                  change({ sort, reverse: sorted && !filter.reverse });
                }}
              >
                {name}
                {sorted && (filter.reverse ? <ArrowUp className="size-3" /> : <ArrowDown className="size-3" />)}
              </button>
            ) : (
              name
            )}
          </div>
        );
      })}
    </div>
  );
}

function Row({ filter, index, now }: { filter: Filter; index: number; now: number }) {
  const row = useMachineRows(filter, index, index)(index);
  if (!row) {
    return <div className="skeleton m-2 h-5" />;
  }
  // A place in the list that comes to hold another machine is drawn anew: the focus does not go over to that.
  return (
    <div key={row.name} className="machine-grid grid h-full items-center gap-x-3 px-2">
      <div role="cell" className="min-w-0">
        <Link data-row to={`/machines/${row.name}`} className="link-hover block truncate font-medium">
          {row.name}
        </Link>
        <div className="sm:hidden">
          {differs(row) ? <span className="text-xs font-semibold">not as expected</span> : <Way row={row} />}
        </div>
      </div>
      <div role="cell" className="hidden sm:block">
        <Way row={row} />
      </div>
      <div role="cell">
        <StateMark state={row.stage} />
      </div>
      <div role="cell" className="hidden truncate sm:block">
        <Holds row={row} />
      </div>
      <div role="cell" className="hidden truncate xl:block" title={row.labels.join(", ")}>
        {row.labels.length === 0
          ? "–"
          : row.labels.map((label) => (
              <Link key={label} className="link-hover mr-2" to={`/?label=${encodeURIComponent(label)}`}>
                {label}
              </Link>
            ))}
      </div>
      <div role="cell" className="hidden lg:block">
        {row.address ?? "–"}
      </div>
      <div role="cell" className="hidden font-mono text-xs lg:block">
        {row.macs[0]}
      </div>
      <div role="cell" className="hidden lg:block">
        {ago(row.last_seen, now)}
      </div>
    </div>
  );
}

function Way({ row }: { row: MachineRow }) {
  return row.install == null ? null : <Route step={row.last_step} state={routeState(row)} />;
}

/** Whether the host said that it is otherwise than expected. */
const differs = (row: MachineRow) => (row.installed?.differs ?? 0) > 0;

/** What the machine holds, and what is on its way to it. */
function Holds({ row }: { row: MachineRow }) {
  const moving = row.stage === "armed" || row.stage === "booting" || row.stage === "installing";
  return (
    <>
      {row.installed ? `${row.installed.image} r${row.installed.revision}` : moving ? "" : "–"}
      {row.installed?.behind && <span className="text-accent"> behind</span>}
      {differs(row) && row.installed && (
        <Link to={`/installs/${row.installed.install}`} className="link-hover block text-xs leading-4 font-semibold">
          not as expected
        </Link>
      )}
      {moving && row.target && <span className="text-base-content/70"> → {row.target}</span>}
    </>
  );
}
