import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft, FileSpreadsheet } from "lucide-react";
import { useEffect, useEffectEvent, useState } from "react";
import { Link, useNavigate } from "react-router";

import { answer, api, faultsOf, type ImportedRow, type ImportReport, TRYING } from "../api/client";
import { Refusal } from "../parts/Faults";
import { Prose } from "../parts/Prose";
import { type Column, Table } from "../parts/Table";
import { Preformatted } from "../parts/Preformatted";

const EXAMPLE = "name,mac,labels,detail.rack,address\nkiosk-1,00:00:5e:00:53:01,kiosk,r12,192.0.2.21\n";

/** A value that came as JSON, as people write it. */
function shown(json: string | null | undefined): string {
  if (json == null) {
    return "(none)";
  }
  const value: unknown = JSON.parse(json);
  return Array.isArray(value) ? value.join(", ") : typeof value === "string" ? value : json;
}

const said = (row: ImportedRow) =>
  row.changes
    .map(({ place, before, after }) =>
      row.kind === "new" ? `${place} = ${shown(after)}` : `${place}: ${shown(before)} → ${shown(after)}`,
    )
    .join("; ");

const COLUMNS: Column<ImportedRow>[] = [
  { name: "Line", value: ({ line }) => line },
  { name: "Machine", value: ({ machine }) => machine, cell: ({ machine }) => <span className="font-medium">{machine}</span> },
  { name: "Row", value: ({ kind }) => kind },
  { name: "Changes", show: "break-words", value: said },
];

/** Registers and changes machines by a CSV file: shown first, then saved as a whole or not at all. */
export function ImportMachinesPage() {
  const [csv, setCsv] = useState("");
  const [file, setFile] = useState("");
  const queries = useQueryClient();
  const go = useNavigate();
  const look = useMutation({
    mutationFn: async (text: string) => answer(await api.POST("/api/v1/machines/import", { body: { csv: text }, ...TRYING })),
  });
  const save = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/machines/import", { body: { csv } })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      await go("/machines?sort=name");
    },
  });
  const take = (name: string, text: string) => {
    setFile(name);
    setCsv(text);
    look.mutate(text);
  };
  const read = (chosen: File | undefined) => {
    if (chosen) {
      void chosen.text().then((text) => {
        take(chosen.name, text);
      });
    }
  };
  const over = useDropped(read);
  return (
    <div className={`min-h-0 flex-1 overflow-auto pb-8 ${over ? "outline-2 outline-accent outline-dashed" : ""}`}>
      <Link to="/machines" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Machines
      </Link>
      <h1 className="mt-1 mb-3 text-lg font-semibold">Import machines from CSV</h1>
      <div className="mb-4 grid max-w-5xl gap-4 lg:grid-cols-2">
        <label className="flex cursor-pointer items-center gap-3 border-2 border-dashed border-base-300 p-4 hover:border-accent">
          <FileSpreadsheet className="size-8 text-secondary" aria-hidden />
          <span>
            <span className="block font-medium">{file === "" ? "Drop a CSV file here, or choose one" : file}</span>
            <span className="block text-base-content/75">It is checked and shown before anything is saved.</span>
          </span>
          <input
            type="file"
            accept=".csv,text/csv,text/plain"
            className="sr-only"
            aria-label="CSV file"
            onChange={({ target }) => {
              read(Array.from(target.files ?? [])[0]);
              target.value = "";
            }}
          />
        </label>
        <div className="text-base-content/75">
          <p>
            The first line names the columns: <code>name</code>, <code>mac</code>, <code>labels</code>, <code>address</code>,{" "}
            <code>default_boot</code>, <code>menu</code>, <code>detail.NAME</code> … An empty cell leaves what a machine has, a
            dash empties it.
          </p>
          <Preformatted label="Example" className="mt-2 bg-base-200 p-2 text-xs">{EXAMPLE}</Preformatted>
        </div>
      </div>
      {look.isPending && <p role="status">Checking {csv.split("\n").length - 1} lines …</p>}
      <ImportFaults error={look.error ?? save.error} />
      {look.data !== undefined && (
        <Report
          report={look.data}
          busy={save.isPending}
          save={() => {
            save.mutate();
          }}
        />
      )}
    </div>
  );
}

/** Takes a file that is dropped anywhere on the page; gives whether one is held over it. */
function useDropped(take: (file: File | undefined) => void): boolean {
  const [over, setOver] = useState(false);
  const taking = useEffectEvent(take);
  useEffect(() => {
    const hover = (event: DragEvent) => {
      event.preventDefault();
      setOver(true);
    };
    const leave = () => {
      setOver(false);
    };
    const drop = (event: DragEvent) => {
      event.preventDefault();
      setOver(false);
      taking(event.dataTransfer?.files[0]);
    };
    window.addEventListener("dragover", hover);
    window.addEventListener("dragleave", leave);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragover", hover);
      window.removeEventListener("dragleave", leave);
      window.removeEventListener("drop", drop);
    };
  }, []);
  return over;
}

function ImportFaults({ error }: { error: Error | null }) {
  const faults = faultsOf(error);
  if (faults.length === 0) {
    return <Refusal error={error} />;
  }
  return (
    <div role="alert" className="max-w-5xl border-l-4 border-error pl-3">
      <p className="mb-1 font-semibold">Nothing was saved: {faults.length === 1 ? "1 cell is" : `${faults.length} cells are`} wrong.</p>
      <table className="w-full text-left">
        <tbody>
          {faults.map(({ place, what, fix }) => (
            <tr key={place + what} className="align-top">
              <th scope="row" className="pr-4 font-normal whitespace-nowrap">
                {place}
              </th>
              <td>
                {what}. <span className="text-base-content/75"><Prose text={fix} /></span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Report({ report, busy, save }: { report: ImportReport; busy: boolean; save: () => void }) {
  const nothing = report.new + report.changed === 0;
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <p role="status">
          <b>{report.new}</b> new, <b>{report.changed}</b> changed, <b>{report.unchanged}</b> unchanged
        </p>
        <button type="button" className="btn btn-primary btn-sm" disabled={busy || nothing} onClick={save}>
          Save {report.new + report.changed} machines
        </button>
      </div>
      <Table label="Rows" rows={report.rows} columns={COLUMNS} keyOf={({ line }) => String(line)} />
    </>
  );
}
