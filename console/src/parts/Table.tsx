import { ArrowDown, ArrowUp } from "lucide-react";
import { type ReactNode, useState } from "react";

/** Rows that are drawn; what lies beyond is found by the filter. */
const DRAWN = 500;
/** From so many rows on there is a filter: fewer are read at a glance. */
const FILTERED = 10;

/** A column of a table. */
export interface Column<Row> {
  name: string;
  /** Whether the name is for screen readers only, and the column is sorted by nobody. */
  hidden?: boolean;
  /** On which widths it is shown, as class names; on all if left out. */
  show?: string;
  /** What is sorted by, and found by the filter. */
  value: (row: Row) => string | number;
  /** What is drawn; the value if left out. */
  cell?: (row: Row) => ReactNode;
}

interface Order {
  /** The column's name. */
  column: string;
  reverse: boolean;
}

/** A table of a list that is here as a whole: sorted by any column, narrowed by a filter. */
export function Table<Row>(props: {
  label: string;
  rows: Row[];
  columns: Column<Row>[];
  keyOf: (row: Row) => string;
  /** The order to begin with; that of the rows if left out. */
  order?: Order;
}) {
  const [order, setOrder] = useState(props.order);
  const [text, setText] = useState("");
  const fitting = sorted(narrowed(props.rows, props.columns, text), props.columns, order);
  return (
    <div className="max-w-5xl">
      {props.rows.length >= FILTERED && (
        <label className="input input-sm mb-2 w-64">
          <span className="text-base-content/70">Filter</span>
          <input
            value={text}
            aria-label={`Filter: ${props.label}`}
            onChange={(event) => {
              setText(event.target.value);
            }}
          />
        </label>
      )}
      <table className="w-full text-left" aria-label={props.label}>
        <thead>
          <tr className="border-b border-base-300 text-xs text-base-content/70">
            {props.columns.map(({ name, show, hidden }) => (
              <Head
                key={name}
                name={name}
                show={show}
                hidden={hidden ?? false}
                sorted={order?.column === name ? (order.reverse ? "descending" : "ascending") : "none"}
                sort={() => {
                  setOrder({ column: name, reverse: order?.column === name && !order.reverse });
                }}
              />
            ))}
          </tr>
        </thead>
        <tbody>
          {fitting.slice(0, DRAWN).map((row) => (
            <tr key={props.keyOf(row)} className="border-b border-base-200 align-top hover:bg-base-200">
              {props.columns.map(({ name, show = "", value, cell }) => (
                <td key={name} className={`p-1.5 ${show}`}>
                  {cell ? cell(row) : value(row)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {fitting.length === 0 && <p className="p-1.5">None of {props.rows.length} matches.</p>}
      {fitting.length > DRAWN && (
        <p className="p-1.5 text-base-content/75">
          {fitting.length - DRAWN} more are not shown: filter by a part of a name or address.
        </p>
      )}
    </div>
  );
}

function Head(props: {
  name: string;
  show: string | undefined;
  hidden: boolean;
  sorted: "ascending" | "descending" | "none";
  sort: () => void;
}) {
  if (props.hidden) {
    return (
      <th className={`p-1.5 ${props.show ?? ""}`}>
        <span className="sr-only">{props.name}</span>
      </th>
    );
  }
  return (
    <th aria-sort={props.sorted} className={`p-1.5 font-normal whitespace-nowrap ${props.show ?? ""}`}>
      <button
        type="button"
        className="inline-flex cursor-pointer items-center gap-1 hover:underline"
        onClick={props.sort}
      >
        {props.name}
        {props.sorted === "ascending" && <ArrowDown className="size-3" aria-hidden />}
        {props.sorted === "descending" && <ArrowUp className="size-3" aria-hidden />}
      </button>
    </th>
  );
}

function narrowed<Row>(rows: Row[], columns: Column<Row>[], text: string): Row[] {
  const part = text.trim().toLowerCase();
  if (part === "") {
    return rows;
  }
  return rows.filter((row) => columns.some(({ value }) => String(value(row)).toLowerCase().includes(part)));
}

function sorted<Row>(rows: Row[], columns: Column<Row>[], order: Order | undefined): Row[] {
  const value = order && columns.find(({ name }) => name === order.column)?.value;
  if (!value) {
    return rows;
  }
  const turn = order.reverse ? -1 : 1;
  // Numbers within words count as numbers: addresses come in their order.
  return rows.toSorted((left, right) => {
    const [one, other] = [value(left), value(right)];
    const compared =
      typeof one === "number" && typeof other === "number"
        ? one - other
        : String(one).localeCompare(String(other), "en", { numeric: true });
    return turn * compared;
  });
}
