import { useMutation, useQueryClient } from "@tanstack/react-query";
import { FileSpreadsheet } from "lucide-react";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { answer, api, type LocationsReport, type LocationView, type RackView, TRYING } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { Preformatted } from "../parts/Preformatted";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { pageOf } from "../parts/who";
import { Rack } from "./Rack";
import { useLocations, useRacks } from "./useRacks";

const EXAMPLE = "switch,port,hall,row,rack,unit\nsw-tern-1,Ethernet1/4,Tern Bay,A,r12,20-21\n";

const VIEWS = [
  { key: "racks", name: "Racks" },
  { key: "ports", name: "Switch ports" },
] as const;

/** Where machines are: what stands in each rack, and which switch ports end there. */
export function RacksPage() {
  const [params, setParams] = useSearchParams();
  const [importing, setImporting] = useState(false);
  const view = params.get("show") === "ports" ? "ports" : "racks";
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <h1 className="text-lg font-semibold">Racks</h1>
        <div className="join ml-2" role="group" aria-label="What is shown">
          {VIEWS.map(({ key, name }) => (
            <button
              key={key}
              type="button"
              className={`btn join-item btn-sm ${view === key ? "btn-primary" : ""}`}
              aria-pressed={view === key}
              onClick={() => {
                setParams(key === "racks" ? {} : { show: key }, { replace: true });
              }}
            >
              {name}
            </button>
          ))}
        </div>
        <button type="button" className="btn btn-sm ml-auto" onClick={() => { setImporting(true); }}>
          <FileSpreadsheet className="size-4" aria-hidden /> Import switch ports
        </button>
      </div>
      {view === "racks" ? <Racks hall={params.get("hall") ?? ""} choose={(hall) => { setParams(hall === "" ? {} : { hall }, { replace: true }); }} /> : <Ports />}
      {importing && <ImportDialog close={() => { setImporting(false); }} />}
    </div>
  );
}

function Racks({ hall, choose }: { hall: string; choose: (hall: string) => void }) {
  const racks = useRacks();
  const [text, setText] = useState("");
  const holds = (rack: RackView) => {
    const part = text.trim().toLowerCase();
    const names = [rack.rack, rack.row, ...rack.units.flatMap((unit) => [...unit.ports, ...unit.occupants.map(({ who }) => who)])];
    return (hall === "" || rack.hall === hall) && (part === "" || names.some((name) => name.toLowerCase().includes(part)));
  };
  return (
    <Answered query={racks}>
      {(all) => {
        if (all.length === 0) {
          return (
            <Empty title="Nothing is known of any rack">
              Import a table of switch ports and where each ends: machines are found there by what their switch says of the cable (LLDP).
              Or give machines the details hall, row, rack and unit.
            </Empty>
          );
        }
        const halls = [...new Set(all.map((rack) => rack.hall))].filter(Boolean);
        const shown = all.filter(holds);
        return (
          <>
            <div className="mb-3 flex flex-wrap items-center gap-3">
              <label className="input input-sm w-64">
                <span className="text-base-content/70">Filter</span>
                <input value={text} aria-label="Filter racks by rack, machine or port" onChange={(event) => { setText(event.target.value); }} />
              </label>
              {halls.length > 1 && (
                <select className="select select-sm w-48" aria-label="Hall" value={hall} onChange={(event) => { choose(event.target.value); }}>
                  <option value="">all halls</option>
                  {halls.map((name) => (
                    <option key={name} value={name}>{name}</option>
                  ))}
                </select>
              )}
              <Summary racks={shown} />
            </div>
            {shown.length === 0 && <p>None of {all.length} racks matches.</p>}
            <div className="flex flex-wrap items-start gap-x-6 gap-y-6">
              {shown.map((rack) => (
                <Rack key={`${rack.hall}\n${rack.row}\n${rack.rack}`} rack={rack} />
              ))}
            </div>
          </>
        );
      }}
    </Answered>
  );
}

/** How many machines are there, expected and unknown. */
function Summary({ racks }: { racks: RackView[] }) {
  const occupants = racks.flatMap((rack) => rack.units.flatMap((unit) => unit.occupants));
  const expected = occupants.filter((one) => one.is_expected).length;
  const unknown = occupants.filter((one) => one.stage == null).length;
  const empty = racks.flatMap((rack) => rack.units).filter((unit) => unit.occupants.length === 0).length;
  return (
    <p className="text-base-content/75">
      {occupants.length - expected - unknown} machines, {unknown} newcomers, {expected} expected and not seen yet, {empty} ports without a
      machine
    </p>
  );
}

const PORTS: Column<LocationView>[] = [
  { name: "Switch", value: ({ switch: name }) => name },
  { name: "Port", value: ({ port }) => port },
  { name: "Hall", show: "hidden sm:table-cell", value: ({ hall }) => hall || "–" },
  { name: "Row", show: "hidden sm:table-cell", value: ({ row }) => row || "–" },
  { name: "Rack", value: ({ rack }) => rack || "–" },
  { name: "Unit", value: ({ unit }) => unit || "–" },
  {
    name: "Machine",
    value: ({ who }) => who ?? "–",
    cell: ({ who }) => (who == null ? "–" : <Link className="link-hover font-medium" to={pageOf(who, "overview")}>{who}</Link>),
  },
  { name: "Actions", hidden: true, value: () => "", cell: (location) => <RemovePort location={location} /> },
];

function RemovePort({ location }: { location: LocationView }) {
  const [asking, setAsking] = useState(false);
  const named = `${location.switch} ${location.port}`;
  return (
    <>
      <button type="button" className="btn btn-xs" aria-label={`Remove ${named}`} onClick={() => { setAsking(true); }}>
        Remove
      </button>
      {asking && (
        <Confirm
          title={`Remove ${named}?`}
          text="Machines keep the details they have."
          action="Remove"
          act={async () => answer(await api.POST("/api/v1/locations/remove", { body: { switch: location.switch, ports: [location.port] } }))}
          close={() => { setAsking(false); }}
        />
      )}
    </>
  );
}

function Ports() {
  const locations = useLocations();
  return (
    <Answered query={locations}>
      {(all) =>
        all.length === 0 ? (
          <Empty title="No switch port is known">Import a table that says in which rack the cable of each port ends.</Empty>
        ) : (
          <Table label="Switch ports" rows={all} columns={PORTS} keyOf={({ switch: name, port }) => `${name} ${port}`} />
        )
      }
    </Answered>
  );
}

/** Takes a table of switch ports: shown first, then saved as a whole or not at all. */
function ImportDialog({ close }: { close: () => void }) {
  const [csv, setCsv] = useState("");
  const [replace, setReplace] = useState(false);
  const queries = useQueryClient();
  const look = useMutation({
    mutationFn: async (body: { csv: string; replace: boolean }) => answer(await api.POST("/api/v1/locations/import", { body, ...TRYING })),
  });
  const save = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/locations/import", { body: { csv, replace } })),
    onSuccess: async () => {
      close();
      await queries.invalidateQueries();
    },
  });
  const take = (text: string, replaces: boolean) => {
    setCsv(text);
    setReplace(replaces);
    if (text.trim() !== "") {
      look.mutate({ csv: text, replace: replaces });
    }
  };
  return (
    <Dialog title="Import switch ports" close={close}>
      <div className="space-y-3">
        <input
          type="file"
          accept=".csv,text/csv,text/plain"
          className="file-input file-input-sm w-full"
          aria-label="CSV file"
          onChange={({ target }) => {
            const file = Array.from(target.files ?? [])[0];
            void file?.text().then((text) => {
              take(text, replace);
            });
          }}
        />
        <Preformatted label="Example" className="bg-base-200 p-2 text-xs">{EXAMPLE}</Preformatted>
        <label className="flex items-center gap-2">
          <input type="checkbox" className="checkbox checkbox-sm" checked={replace} onChange={(event) => { take(csv, event.target.checked); }} />
          Remove ports that the file does not have
        </label>
        <Refusal error={look.error ?? save.error} title="Nothing was saved." />
        {look.data && <Report report={look.data} />}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={close}>
            Cancel
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={look.data === undefined || look.isPending || save.isPending} onClick={() => { save.mutate(); }}>
            Save
          </button>
        </div>
      </div>
    </Dialog>
  );
}

function Report({ report }: { report: LocationsReport }) {
  return (
    <p role="status">
      {report.new} new, {report.changed} changed, {report.removed} removed, {report.unchanged} unchanged
    </p>
  );
}
