import { ArrowDown, ArrowUp } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";

import type { MachineRow } from "../api/client";
import { Route } from "../parts/Route";
import { StateMark } from "../parts/StateMark";
import { Ago } from "../parts/Time";
import { VirtualRows } from "../parts/VirtualRows";
import { routeState } from "./routeState";
import type { useSelection } from "./selection";
import { type ColumnKey, type Filter, PAGE, type Sort, useMachineRows } from "./useMachines";

const ROW_PX = 40;
const COMPACT_ROW_PX = 28;
const NARROW_ROW_PX = 60;

interface Column {
  key: ColumnKey;
  name: string;
  sort?: Sort;
  /** Its share of the width. */
  width: string;
  /** On which widths of the window it is shown. */
  show: "sm" | "lg" | "xl" | "2xl" | "always";
  cell: (row: MachineRow) => ReactNode;
}

/** Every column beside the name. */
export const ALL_COLUMNS: Column[] = [
  { key: "progress", name: "Progress", width: "11.5rem", show: "sm", cell: (row) => <Way row={row} /> },
  { key: "stage", name: "Stage", sort: "stage", width: "6rem", show: "always", cell: (row) => <StateMark state={row.stage} /> },
  { key: "image", name: "Image", sort: "image", width: "minmax(9rem,1.2fr)", show: "sm", cell: (row) => <Holds row={row} /> },
  { key: "labels", name: "Labels", width: "minmax(5rem,0.8fr)", show: "xl", cell: (row) => <Labels row={row} /> },
  { key: "address", name: "Address", width: "8rem", show: "lg", cell: (row) => row.address ?? "–" },
  { key: "mac", name: "MAC", width: "8.5rem", show: "2xl", cell: (row) => <span className="font-mono text-xs">{row.macs[0]}</span> },
  { key: "seen", name: "Last seen", sort: "seen", width: "6rem", show: "lg", cell: (row) => <Ago at={row.last_seen} /> },
];

const WIDTHS = { sm: "(min-width: 640px)", lg: "(min-width: 1024px)", xl: "(min-width: 1200px)", "2xl": "(min-width: 1440px)" };

function shownColumns(filter: Filter): Column[] {
  const fits = (column: Column) => column.show === "always" || window.matchMedia(WIDTHS[column.show]).matches;
  return ALL_COLUMNS.filter((column) => filter.columns.includes(column.key) && fits(column));
}

/** Of what was measured, as many columns as fit on a narrow screen: none. */
const shownFacts = (filter: Filter) => (window.matchMedia(WIDTHS.sm).matches ? filter.facts : []);

function template(columns: Column[], facts: string[]): string {
  return ["1.75rem", "minmax(8rem,1.3fr)", ...columns.map(({ width }) => width), ...facts.map(() => "minmax(6rem,1fr)")].join(" ");
}

type Selected = ReturnType<typeof useSelection>;

/** All machines that the filter lets through, however many. */
export function MachineTable(props: {
  filter: Filter;
  total: number;
  change: (part: Partial<Filter>) => void;
  compact: boolean;
  selected: Selected;
}) {
  const { filter, total, change, compact, selected } = props;
  const narrow = window.matchMedia("(max-width: 639px)").matches;
  const columns = shownColumns(filter);
  return (
    <VirtualRows
      label="Machines"
      count={total}
      height={narrow ? NARROW_ROW_PX : compact ? COMPACT_ROW_PX : ROW_PX}
      head={<Head filter={filter} change={change} columns={columns} selected={selected} total={total} />}
      // Whatever page is scrolled to is read when it is drawn.
      row={(index) => <Row filter={filter} index={index} columns={columns} selected={selected} compact={compact} />}
    />
  );
}

function Head(props: {
  filter: Filter;
  change: (part: Partial<Filter>) => void;
  columns: Column[];
  selected: Selected;
  total: number;
}) {
  const { filter, change, columns, selected, total } = props;
  const count = selected.selection.everything ? total : selected.selection.names.size;
  return (
    <div
      role="row"
      className="grid items-center gap-x-3 px-2 py-1 text-xs text-base-content/70"
      style={{ gridTemplateColumns: template(columns, shownFacts(filter)) }}
    >
      <div role="columnheader">
        <input
          type="checkbox"
          className="checkbox checkbox-xs rounded-sm align-middle"
          aria-label={`Select all ${total} machines`}
          checked={count > 0 && count === total}
          ref={(box) => {
            if (box) {
              box.indeterminate = count > 0 && count < total;
            }
          }}
          onChange={({ target }) => {
            if (target.checked) {
              selected.all();
            } else {
              selected.none();
            }
          }}
        />
      </div>
      <Heading name="Machine" sort="name" filter={filter} change={change} />
      {columns.map(({ key, name, sort }) => (
        <Heading key={key} name={name} sort={sort} filter={filter} change={change} />
      ))}
      {shownFacts(filter).map((fact) => (
        <FactHeading key={fact} fact={fact} filter={filter} change={change} />
      ))}
    </div>
  );
}

function FactHeading({ fact, filter, change }: { fact: string; filter: Filter; change: (part: Partial<Filter>) => void }) {
  const sorted = filter.sortBy === fact;
  return (
    <div role="columnheader" aria-sort={sorted ? (filter.reverse ? "descending" : "ascending") : "none"} className="min-w-0">
      <button
        type="button"
        className="flex max-w-full cursor-pointer items-center gap-1 font-mono hover:underline"
        onClick={() => {
          change({ sortBy: fact, reverse: sorted && !filter.reverse });
        }}
      >
        <span className="truncate">{fact}</span>
        {sorted && (filter.reverse ? <ArrowUp className="size-3" /> : <ArrowDown className="size-3" />)}
      </button>
    </div>
  );
}

function Heading(props: { name: string; sort: Sort | undefined; filter: Filter; change: (part: Partial<Filter>) => void }) {
  const { name, sort, filter, change } = props;
  const sorted = sort !== undefined && filter.sortBy === "" && filter.sort === sort;
  const order = sorted ? (filter.reverse ? "descending" : "ascending") : "none";
  return (
    <div role="columnheader" aria-sort={order}>
      {sort ? (
        <button
          type="button"
          className="flex cursor-pointer items-center gap-1 hover:underline"
          onClick={() => {
            change({ sort, sortBy: "", reverse: sorted && !filter.reverse });
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
}

function Row(props: { filter: Filter; index: number; columns: Column[]; selected: Selected; compact: boolean }) {
  const { filter, index, columns, selected } = props;
  const rows = useMachineRows(filter, Math.max(0, index - PAGE), index);
  const row = rows(index);
  if (!row) {
    return <div className="skeleton m-2 h-4" />;
  }
  const isSelected = selected.has(row.name);
  /** The rows from the one that was touched last to this one, as far as they have been read. */
  const range = (): string[] => {
    const names: string[] = [];
    for (let at = index; at >= Math.max(0, index - PAGE); at -= 1) {
      const name = rows(at)?.name;
      if (name === undefined) {
        break;
      }
      names.push(name);
      if (name === selected.last) {
        return names;
      }
    }
    return [row.name];
  };
  // A place in the list that comes to hold another machine is drawn anew: the focus does not go over to that.
  return (
    <div
      key={row.name}
      className={`grid h-full items-center gap-x-3 px-2 ${isSelected ? "bg-accent/15" : ""}`}
      style={{ gridTemplateColumns: template(columns, shownFacts(filter)) }}
    >
      <div role="cell">
        <input
          type="checkbox"
          className="checkbox checkbox-xs rounded-sm align-middle"
          aria-label={`Select ${row.name}`}
          checked={isSelected}
          onChange={(event) => {
            const shift = event.nativeEvent instanceof MouseEvent && event.nativeEvent.shiftKey;
            selected.toggle(row.name, shift ? range() : []);
          }}
        />
      </div>
      <div role="cell" className="min-w-0">
        <Link data-row to={`/machines/${row.name}`} className="link-hover block truncate font-medium">
          {row.name}
        </Link>
        <div className="sm:hidden">
          {differs(row) ? <span className="text-xs font-semibold">not as expected</span> : <Way row={row} />}
        </div>
      </div>
      {columns.map(({ key, cell }) => (
        <div key={key} role="cell" className="min-w-0 truncate">
          {cell(row)}
        </div>
      ))}
      {shownFacts(filter).map((fact, at) => (
        <div key={fact} role="cell" className="min-w-0 truncate" title={row.columns?.[at] ?? ""}>
          {row.columns?.[at] ?? "–"}
        </div>
      ))}
    </div>
  );
}

function Labels({ row }: { row: MachineRow }) {
  return row.labels.length === 0
    ? "–"
    : row.labels.map((label) => (
        <Link key={label} className="link-hover mr-2" to={`/machines?label=${encodeURIComponent(label)}`} title={row.labels.join(", ")}>
          {label}
        </Link>
      ));
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
      {differs(row) && row.installed && (
        <Link to={`/installs/${row.installed.install}`} className="link-hover mr-1.5 font-semibold text-error">
          differs
        </Link>
      )}
      {row.installed?.behind && <span className="mr-1.5 text-accent">behind</span>}
      {row.installed ? `${row.installed.image} r${row.installed.revision}` : moving ? "" : "–"}
      {moving && row.target && <span className="text-base-content/70"> → {row.target}</span>}
    </>
  );
}
