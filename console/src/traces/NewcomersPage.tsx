import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { answer, api, type NewcomerView, TRYING } from "../api/client";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { words } from "../parts/Form";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago } from "../parts/Time";
import { useNewcomers } from "./useTrace";

/** Machines that nobody has registered. */
export function NewcomersPage() {
  const newcomers = useNewcomers();
  const [selected, setSelected] = useState<ReadonlySet<string>>(new Set());
  const [adopting, setAdopting] = useState<string[]>();
  const toggle = (mac: string) => {
    const next = new Set(selected);
    if (!next.delete(mac)) {
      next.add(mac);
    }
    setSelected(next);
  };
  const columns: Column<NewcomerView>[] = [
    {
      name: "Selected",
      hidden: true,
      value: () => "",
      cell: ({ mac }) => (
        <input
          type="checkbox"
          className="checkbox checkbox-xs rounded-sm"
          aria-label={`Select ${mac}`}
          checked={selected.has(mac)}
          onChange={() => {
            toggle(mac);
          }}
        />
      ),
    },
    {
      name: "MAC",
      show: "whitespace-nowrap",
      value: ({ mac }) => mac,
      cell: ({ mac }) => (
        <Link className="link-hover font-mono text-xs" to={`/traces/${encodeURIComponent(mac)}`}>
          {mac}
        </Link>
      ),
    },
    {
      name: "Last seen",
      show: "hidden whitespace-nowrap sm:table-cell",
      // The one seen last comes first, as it does unsorted.
      value: ({ last_seen }) => -Date.parse(last_seen),
      cell: ({ last_seen }) => <Ago at={last_seen} />,
    },
    {
      name: "Machine",
      value: ({ product, hardware }) => `${product ?? ""} ${hardware ?? ""}`,
      cell: ({ mac, product, hardware, is_waiting }) =>
        hardware == null ? (
          <span className="text-base-content/70">not surveyed</span>
        ) : (
          <>
            <Link className="link-hover font-medium" to={`/facts/${encodeURIComponent(mac)}`}>
              {product ?? "of no name"}
            </Link>
            <span className="block text-xs text-base-content/75">
              {hardware}
              {is_waiting && "; waits in the survey"}
            </span>
          </>
        ),
    },
    { name: "Asked", show: "hidden xl:table-cell", value: ({ asked }) => asked },
    { name: "Got", show: "hidden lg:table-cell", value: ({ got }) => got },
    {
      name: "Action",
      value: () => "",
      cell: ({ mac }) => (
        <button
          type="button"
          className="btn btn-xs"
          aria-label={`Adopt ${mac}`}
          onClick={() => {
            setAdopting([mac]);
          }}
        >
          Adopt
        </button>
      ),
    },
  ];
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="mb-1 text-lg font-semibold">Newcomers</h1>
      <p className="mb-3 max-w-prose text-base-content/75">
        Machines that nobody has registered and that were seen on the wire or surveyed. Adopt those that are yours.
      </p>
      <Answered query={newcomers} rows={4}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No unknown machine was seen">
              If a machine is switched on and does not appear here, its requests do not reach this service:{" "}
              <Link className="link" to="/check">
                run the check
              </Link>
              .
            </Empty>
          ) : (
            <>
              <div className="mb-2 flex items-center gap-2">
                <button
                  type="button"
                  className="btn btn-sm btn-primary"
                  disabled={selected.size === 0}
                  onClick={() => {
                    setAdopting(all.map(({ mac }) => mac).filter((mac) => selected.has(mac)));
                  }}
                >
                  Adopt {selected.size > 0 ? selected.size : ""} selected
                </button>
                <button
                  type="button"
                  className="btn btn-sm"
                  onClick={() => {
                    setSelected(selected.size === all.length ? new Set() : new Set(all.map(({ mac }) => mac)));
                  }}
                >
                  {selected.size === all.length ? "Select none" : `Select all ${all.length}`}
                </button>
              </div>
              <Table label="Newcomers" rows={all} columns={columns} keyOf={({ mac }) => mac} />
            </>
          )
        }
      </Answered>
      {adopting && (
        <AdoptDialog
          macs={adopting}
          close={() => {
            setAdopting(undefined);
          }}
          adopted={() => {
            setSelected(new Set());
          }}
        />
      )}
    </div>
  );
}

/** Names that are shown before machines are adopted. */
const SHOWN = 8;

function AdoptDialog({ macs, close, adopted }: { macs: string[]; close: () => void; adopted: () => void }) {
  const [name, setName] = useState(macs.length === 1 ? "" : "machine-{{ counter | pad(2) }}");
  const [first, setFirst] = useState("1");
  const [labels, setLabels] = useState("");
  const queries = useQueryClient();
  const body = { macs, name: name.trim() || null, first: Number.parseInt(first, 10) || 1, labels: words(labels) };
  const look = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/machines/adopt", { body, ...TRYING })),
  });
  const adopt = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/machines/adopt", { body })),
    onSuccess: async () => {
      adopted();
      close();
      await queries.invalidateQueries();
    },
  });
  const change = (set: (value: string) => void) => (event: React.ChangeEvent<HTMLInputElement>) => {
    set(event.target.value);
    look.reset();
    adopt.reset();
  };
  return (
    <Dialog title={macs.length === 1 ? `Adopt ${macs[0] ?? ""}` : `Adopt ${macs.length} machines`} close={close}>
      <form
        className="space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          adopt.mutate();
        }}
      >
        <label className="block">
          <span className="block font-medium">Name</span>
          <input
            className="input w-full font-mono"
            placeholder="machine-{{ mac_bare }}"
            value={name}
            onChange={change(setName)}
          />
          <span className="block text-xs text-base-content/70">
            A pattern, as in <code>kiosk-{"{{ counter | pad(2) }}"}</code>; if empty, <code>machine-</code> and the MAC address.
          </span>
        </label>
        <div className="grid gap-3 sm:grid-cols-2">
          <label className="block">
            <span className="block font-medium">First counter</span>
            <input type="number" className="input w-full" value={first} onChange={change(setFirst)} />
          </label>
          <label className="block">
            <span className="block font-medium">Labels</span>
            <input className="input w-full" placeholder="kiosk" value={labels} onChange={change(setLabels)} />
          </label>
        </div>
        <Refusal error={look.error ?? adopt.error} title="None was adopted." />
        {look.data && (
          <p role="status" className="text-base-content/75">
            {look.data.slice(0, SHOWN).map((machine) => machine.name).join(", ")}
            {look.data.length > SHOWN && ` and ${look.data.length - SHOWN} more`}
          </p>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={close}>
            Close
          </button>
          <button
            type="button"
            className="btn btn-sm"
            disabled={look.isPending}
            onClick={() => {
              look.mutate();
            }}
          >
            Show the names
          </button>
          <button type="submit" className="btn btn-primary btn-sm" disabled={adopt.isPending}>
            Adopt
          </button>
        </div>
      </form>
    </Dialog>
  );
}
