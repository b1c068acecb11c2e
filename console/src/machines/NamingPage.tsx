import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useLocation, useSearchParams } from "react-router";

import { answer, api, faultsOf, type NamedMachine, type NamingDraft } from "../api/client";
import { Faults, Refusal } from "../parts/Faults";
import { Empty, Failed } from "../parts/States";
import { useRested } from "../parts/rested";
import { type Column, Table } from "../parts/Table";

const words = (text: string) => text.split(/[\s,]+/).filter((word) => word !== "");

const COLUMNS: Column<NamedMachine>[] = [
  { name: "Machine", value: ({ machine }) => machine },
  { name: "MAC", show: "hidden md:table-cell", value: ({ mac }) => mac, cell: ({ mac }) => <span className="font-mono text-xs">{mac}</span> },
  {
    name: "New name",
    value: ({ name }) => name,
    cell: ({ machine, name }) => (machine === name ? "–" : <span className="font-medium">{name}</span>),
  },
  { name: "Address", show: "hidden sm:table-cell", value: ({ former_address }) => former_address ?? "–" },
  { name: "New address", value: ({ address }) => address ?? "–" },
  {
    name: "Notes",
    value: ({ problems, notes }) => [...problems, ...notes].join("; "),
    cell: ({ problems, notes }) => (
      <>
        {problems.map((problem) => (
          <span key={problem} className="block font-semibold text-error">
            {problem}
          </span>
        ))}
        {notes.map((note) => (
          <span key={note} className="block text-base-content/75">
            {note}
          </span>
        ))}
      </>
    ),
  },
];

/** Names and addresses by pattern: what becomes of every machine is seen while the pattern is typed. */
export function NamingPage() {
  const [params] = useSearchParams();
  const state = useLocation().state as { machines?: string[] } | null;
  const [who, setWho] = useState({ machines: state?.machines?.join(" ") ?? params.get("machine") ?? "", labels: params.get("label") ?? "" });
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [first, setFirst] = useState("1");
  const [countBy, setCountBy] = useState<NonNullable<NamingDraft["count_by"]>>("name");
  const draft: NamingDraft = {
    machines: words(who.machines),
    labels: words(who.labels),
    name: name || null,
    address: address || null,
    first: Number(first) || 0,
    count_by: countBy,
  };
  const body = useRested(JSON.stringify(draft));
  const queries = useQueryClient();
  const asks = (words(who.machines).length > 0 || words(who.labels).length > 0) && (name !== "" || address !== "");
  const preview = useQuery({
    queryKey: ["naming", body],
    enabled: asks,
    retry: false,
    gcTime: 10_000,
    // Installs end meanwhile, and others name machines, too.
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
    queryFn: async () => answer(await api.POST("/api/v1/naming/preview", { body: JSON.parse(body) as NamingDraft })),
  });
  const save = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/naming", { body: draft })),
    onSuccess: (saved) => {
      // Machines that were named by hand are known by their new names now.
      setWho({ ...who, machines: who.machines && saved.machines.map((machine) => machine.name).join(" ") });
      setName("");
      setAddress("");
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const faults = faultsOf(preview.error);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/machines" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Machines
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Names and addresses by pattern</h1>
      <form
        className="mb-4 grid max-w-4xl gap-3 sm:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <Field label="Machines" hint="their names, or none" value={who.machines} change={(machines) => { setWho({ ...who, machines }); }} />
        <Field label="With the labels" hint="kiosk" value={who.labels} change={(labels) => { setWho({ ...who, labels }); }} />
        <Field label="Name" hint="{{ details.hall | slug }}-{{ counter | pad(2) }}" value={name} change={setName} mono />
        <Field label="Address" hint="192.0.2.{{ 100 + counter }}" value={address} change={setAddress} mono />
        <Field label="First counter" hint="1" value={first} change={setFirst} />
        <label className="select w-full">
          <span className="label">Counted</span>
          <select
            value={countBy}
            onChange={(event) => {
              setCountBy(event.target.value as NonNullable<NamingDraft["count_by"]>);
            }}
          >
            <option value="name">by name</option>
            <option value="mac">by MAC address</option>
            <option value="registered">by when they were registered</option>
            <option value="given">as they are given</option>
          </select>
        </label>
        <div className="sm:col-span-2">
          <Refusal error={save.error} />
          {save.isSuccess && name === "" && <p role="status" className="mb-2">{save.data.machines.length} machines are saved.</p>}
          <button
            type="submit"
            className="btn btn-primary btn-sm"
            disabled={!asks || save.isPending || preview.data === undefined || preview.data.unfit > 0 || faults.length > 0}
          >
            Save all {asks ? (preview.data?.machines.length ?? "") : ""}
          </button>
        </div>
      </form>
      {!asks && (
        <Empty title="Nothing is asked for yet">
          Say which machines, and a pattern. Beside <code>counter</code> a pattern names what is known of a machine:{" "}
          <code>name</code>, <code>mac_bare</code>, <code>serial</code>, <code>address</code>, <code>labels</code>,{" "}
          <code>details.rack</code>; <code>pad(3)</code> gives leading zeros, <code>slug</code> makes any text a name.
        </Empty>
      )}
      {asks && faults.length > 0 && <Faults title="This cannot be worked out" faults={faults} />}
      {asks && faults.length === 0 && <Failed query={preview} />}
      {asks && preview.data && faults.length === 0 && (
        <>
          <p className="mb-2" role="status">
            {preview.data.unfit === 0
              ? `All ${preview.data.machines.length} can be renamed so.`
              : `${preview.data.unfit} of ${preview.data.machines.length} cannot be renamed so.`}
          </p>
          <Table
            label="Names"
            rows={preview.data.machines.toSorted((a, b) => b.problems.length - a.problems.length)}
            columns={COLUMNS}
            keyOf={({ machine }) => machine}
          />
        </>
      )}
    </div>
  );
}

function Field(props: { label: string; hint: string; value: string; change: (value: string) => void; mono?: boolean }) {
  return (
    <label className="input w-full">
      <span className="label">{props.label}</span>
      <input
        className={props.mono ? "font-mono" : ""}
        value={props.value}
        placeholder={props.hint}
        onChange={(event) => {
          props.change(event.target.value);
        }}
      />
    </label>
  );
}
