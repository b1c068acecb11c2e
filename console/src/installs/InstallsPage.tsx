import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import type { InstallRow, InstallState } from "../api/client";
import { Route } from "../parts/Route";
import { Empty, Failed, Loading } from "../parts/States";
import { StateMark } from "../parts/StateMark";
import { VirtualRows } from "../parts/VirtualRows";
import { Ago } from "../parts/Time";
import { span, useNow } from "../parts/time";
import { HowFar } from "./HowFar";
import { SelectedInstalls } from "./SelectedInstalls";
import { PAGE, useInstalls } from "./useInstalls";

const ROW_PX = 40;

const STATES: InstallState[] = ["failed", "stalled", "armed", "booting", "installing", "installed", "cancelled"];

const COLUMNS: [string, string][] = [
  ["Selected", ""],
  ["No.", ""],
  ["Machine", ""],
  ["Image", "hidden sm:block"],
  ["Answers", "hidden lg:block"],
  ["Progress", "hidden sm:block"],
  ["State", ""],
  ["Duration", "hidden lg:block"],
  ["Last step", "hidden lg:block"],
];

export function InstallsPage() {
  const [params, setParams] = useSearchParams();
  const chosen = params.get("state") as InstallState | null;
  const number = Number(params.get("page") ?? 0);
  const installs = useInstalls(chosen ? [chosen] : [], number);
  const now = useNow();
  const [selected, setSelected] = useState<ReadonlySet<number>>(new Set());
  const rows = installs.data?.installs ?? [];
  const total = installs.data?.total ?? 0;
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-semibold">{installs.data ? `${total} installs` : "Installs"}</h1>
        <select
          className="select w-44"
          aria-label="State"
          value={chosen ?? ""}
          onChange={(event) => {
            setParams(event.target.value ? { state: event.target.value } : {});
          }}
        >
          <option value="">all states</option>
          {STATES.map((state) => (
            <option key={state} value={state}>{state}</option>
          ))}
        </select>
        <Link to="/arm" className="btn btn-sm btn-primary">
          Arm
        </Link>
        {total > PAGE && (
          <Pages
            number={number}
            last={Math.ceil(total / PAGE) - 1}
            go={(page) => {
              setParams({ ...(chosen && { state: chosen }), page: page.toString() });
            }}
          />
        )}
      </div>
      <Failed query={installs} />
      {installs.isPending && <Loading />}
      {installs.data && rows.length === 0 && (
        <Empty title={chosen ? `No install is ${chosen}` : "Nothing was installed yet"}>
          <Link className="link" to="/arm">
            Arm one
          </Link>
          , or by <code>lastmile install arm MACHINE --image IMAGE --answers ANSWERS</code>.
        </Empty>
      )}
      {rows.length > 0 && (
        <VirtualRows
          label="Installs"
          count={rows.length}
          height={ROW_PX}
          head={<Head />}
          row={(index) => {
            const row = rows[index];
            return (
              row && (
                <Row
                  key={row.number}
                  row={row}
                  now={now}
                  selected={selected.has(row.number)}
                  select={(is) => {
                    const next = new Set(selected);
                    if (is) {
                      next.add(row.number);
                    } else {
                      next.delete(row.number);
                    }
                    setSelected(next);
                  }}
                />
              )
            );
          }}
        />
      )}
      {selected.size > 0 && (
        <SelectedInstalls
          numbers={[...selected]}
          clear={() => {
            setSelected(new Set());
          }}
        />
      )}
    </>
  );
}

function Pages({ number, last, go }: { number: number; last: number; go: (page: number) => void }) {
  const to = (page: number, label: string) => (
    <button
      type="button"
      className="btn btn-sm"
      disabled={page < 0 || page > last}
      onClick={() => {
        go(page);
      }}
    >
      {label}
    </button>
  );
  return (
    <nav aria-label="Pages of installs" className="flex items-center gap-2">
      {to(number - 1, "Newer")}
      {to(number + 1, "Older")}
    </nav>
  );
}

function Head() {
  return (
    <div role="row" className="install-grid grid gap-x-3 px-2 py-1.5 text-xs text-base-content/70">
      {COLUMNS.map(([name, show]) => (
        <div key={name} role="columnheader" className={show}>
          {name === "Selected" ? <span className="sr-only">{name}</span> : name}
        </div>
      ))}
    </div>
  );
}

/** What of an install needs somebody, in one line: rows are of one height. */
function Needs({ row }: { row: InstallRow }) {
  const needs = [
    row.waits_for > 0 && "waits for answers",
    (row.differs ?? 0) > 0 && "not as expected",
    row.refused > 0 && "asked for elsewhere",
  ].filter((need) => need !== false);
  if (needs.length === 0) {
    return null;
  }
  return (
    <span className="block truncate pl-3 text-xs font-semibold" title={needs.join(", ")}>
      {needs.join(", ")}
    </span>
  );
}

function Row({ row, now, selected, select }: { row: InstallRow; now: number; selected: boolean; select: (is: boolean) => void }) {
  return (
    <div className="install-grid grid h-full items-center gap-x-3 px-2">
      <div role="cell">
        <input
          type="checkbox"
          className="checkbox checkbox-xs rounded-sm"
          aria-label={`Select install ${row.number}`}
          checked={selected}
          onChange={({ target }) => {
            select(target.checked);
          }}
        />
      </div>
      <div role="cell">
        <Link data-row to={`/installs/${row.number}`} className="link-hover font-medium">
          {row.number}
        </Link>
      </div>
      <div role="cell" className="min-w-0 truncate">
        <Link to={`/machines/${row.machine}`} className="link-hover">
          {row.machine}
        </Link>
      </div>
      <div role="cell" className="hidden truncate sm:block">
        {row.image} r{row.revision}
        {row.is_stateless && <span className="block text-xs text-base-content/70">from memory</span>}
      </div>
      <div role="cell" className="hidden truncate lg:block">
        {row.answers} v{row.answers_version}
      </div>
      <div role="cell" className="hidden sm:block">
        <Route step={row.last_step} state={row.state} />
      </div>
      <div role="cell" className="min-w-0">
        <StateMark state={row.state} />
        <Needs row={row} />
      </div>
      <div role="cell" className="hidden lg:block">
        {row.progress ? (
          <HowFar progress={row.progress} />
        ) : row.booting_at ? (
          span(row.booting_at, row.ended_at ?? now)
        ) : (
          "–"
        )}
      </div>
      <div role="cell" className="hidden lg:block">
        <Ago at={row.last_step_at} />
      </div>
    </div>
  );
}
