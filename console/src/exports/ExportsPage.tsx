import { ArrowLeft, Download } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import { faultsOf, type SubnetView } from "../api/client";
import { Faults } from "../parts/Faults";
import { Answered } from "../parts/States";
import { useSubnets } from "../subnets/useSubnets";
import { address, fileName, useExport, type Wanted } from "./useExport";
import { Preformatted } from "../parts/Preformatted";

/** Lines that are drawn; the file has all of them. */
const DRAWN = 400;

/** What other programs read of the machines: looked at here before it is taken. */
export function ExportsPage() {
  const [wanted, setWanted] = useState<Wanted>({ what: "hosts", label: "", nameServer: "" });
  const subnets = useSubnets();
  const zones = zonesOf(subnets.data ?? []);
  const text = useExport(wanted);
  const faults = faultsOf(text.error);
  const change = (part: Partial<Wanted>) => {
    setWanted({ ...wanted, ...part });
  };
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/machines" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Machines
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">For other programs</h1>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <select
          className="select select-sm w-auto"
          aria-label="What"
          value={typeof wanted.what === "object" ? wanted.what.zone : wanted.what}
          onChange={({ target: { value } }) => {
            change({ what: value === "hosts" || value === "inventory" ? value : { zone: value } });
          }}
        >
          <option value="hosts">hosts file</option>
          <option value="inventory">inventory (JSON)</option>
          {zones.map((zone) => (
            <option key={zone} value={zone}>
              zone of {zone}
            </option>
          ))}
        </select>
        <Field label="label" width="w-48" value={wanted.label} change={(label) => { change({ label }); }} />
        {typeof wanted.what === "object" && (
          <Field
            label="name server"
            width="w-96"
            hint="ns.gannet.example=192.0.2.53"
            value={wanted.nameServer}
            change={(nameServer) => {
              change({ nameServer });
            }}
          />
        )}
        <a className="btn btn-sm btn-primary" href={address(wanted)} download={fileName(wanted)}>
          <Download className="size-4" aria-hidden /> {fileName(wanted)}
        </a>
      </div>
      {faults.length > 0 ? (
        <Faults title="This cannot be written" faults={faults} />
      ) : (
        <Answered query={text}>{(data) => <Text text={data} />}</Answered>
      )}
      <p className="mt-3 text-base-content/75">
        A program has it from <code className="text-xs break-all">{address(wanted)}</code>, or by{" "}
        <code className="text-xs">lastmile export</code>.
      </p>
    </div>
  );
}

function Field(props: { label: string; width: string; hint?: string; value: string; change: (value: string) => void }) {
  return (
    <label className={`input input-sm max-w-full ${props.width}`}>
      <span className="text-base-content/70">{props.label}</span>
      <input
        value={props.value}
        placeholder={props.hint}
        onChange={(event) => {
          props.change(event.target.value);
        }}
      />
    </label>
  );
}

function Text({ text }: { text: string }) {
  const lines = text.trimEnd().split("\n");
  return (
    <>
      <Preformatted label="The file" className="border-l-4 border-base-300 bg-base-200 p-3 text-xs">
        {lines.slice(0, DRAWN).join("\n")}
      </Preformatted>
      {lines.length > DRAWN && <p className="p-1.5 text-base-content/75">{lines.length - DRAWN} more lines</p>}
    </>
  );
}

/** Every domain of a subnet, and the network of 8, 16 or 24 bits around each: zones are cut at whole bytes. */
function zonesOf(subnets: SubnetView[]): string[] {
  const domains = subnets.flatMap(({ domain }) => (domain == null ? [] : [domain]));
  const networks = subnets.map(({ network }) => {
    const [first = "", bits = "24"] = network.split("/");
    const kept = Math.max(1, Math.min(3, Math.floor(Number(bits) / 8)));
    const bytes = first.split(".").map((byte, place) => (place < kept ? byte : "0"));
    return `${bytes.join(".")}/${kept * 8}`;
  });
  return [...new Set([...domains, ...networks])].sort();
}
