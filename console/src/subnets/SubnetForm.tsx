import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode } from "react";
import { useNavigate } from "react-router";

import { answer, api, CallError, conflictOf, type Edited, type Fault, type Reason, type SubnetView } from "../api/client";
import { Conflict } from "../parts/Conflict";
import { Prose } from "../parts/Prose";
import { useDraft } from "../parts/useDraft";
import { type Fields, toDraft, toFields } from "./subnetDraft";

type TextField = Exclude<keyof Fields, "mode" | "newcomers" | "probe" | "authoritative" | "identify" | "http_boot">;

/** Text fields in the order in which a person knows them, with an example each. */
const FIRST: [TextField, string, string][] = [
  ["name", "Name", "holm-quay"],
  ["network", "Network", "192.0.2.0/24"],
  ["interface", "Interface", "eno1"],
  ["vlan", "VLAN", "20"],
  ["relays", "Relays", "192.0.2.1"],
  ["router", "Router", "192.0.2.1"],
  ["dns", "DNS", "192.0.2.53"],
  ["domain", "Domain", "gannet.example"],
  ["ntp", "NTP", "192.0.2.123"],
  ["pools", "Pools", "192.0.2.100-192.0.2.199"],
  ["exclusions", "Exclusions", "192.0.2.150"],
  ["lease_secs", "Lease, seconds", "28800"],
  ["head_start_ms", "Head start of other DHCP servers, ms", "0"],
  ["menu", "Menu", "workshop"],
];

/** Enters or changes a subnet. Everything that is wrong is said at once, each beside its field. */
export function SubnetForm(props: { start: Fields; reasons: Reason[]; replaces: Edited<SubnetView> | undefined }) {
  const { draft: fields, setDraft: setFields, headers, take } = useDraft<SubnetView, Fields>(props.replaces, (saved) =>
    saved === undefined ? props.start : toFields(saved),
  );
  const queries = useQueryClient();
  const go = useNavigate();
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const body = toDraft(fields);
      const { replaces } = props;
      if (replaces === undefined) {
        return answer(await api.POST("/api/v1/subnets", { body }));
      }
      const params = { path: { name: replaces.name } };
      return answer(await api.PUT("/api/v1/subnets/{name}", { params, headers: headers(etag), body }));
    },
    onSuccess: async (subnet) => {
      await queries.invalidateQueries();
      await go(`/subnets/${subnet.name}`);
    },
  });
  const problem = save.error instanceof CallError ? save.error.problem : undefined;
  const faults = problem?.faults ?? [];
  const set = (part: Partial<Fields>) => {
    setFields({ ...fields, ...part });
  };
  const said = (field: keyof Fields) => ({
    faults: faults.filter((fault) => fault.place.split(/[.[]/)[0] === field),
    reason: props.reasons.find((reason) => reason.place === field)?.why,
  });
  const choice = <K extends "mode" | "newcomers" | "identify" | "http_boot">(field: K, label: string, values: Fields[K][]) => (
    <Field label={label} {...said(field)}>
      <select
        className="select select-sm w-full"
        aria-label={label}
        value={fields[field]}
        onChange={(event) => {
          set({ [field]: event.target.value });
        }}
      >
        {values.map((value) => (
          <option key={value} value={value}>{value}</option>
        ))}
      </select>
    </Field>
  );
  const tick = (field: "probe" | "authoritative", label: string) => (
    <label className="flex items-center gap-2 py-1">
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        checked={fields[field]}
        onChange={(event) => {
          set({ [field]: event.target.checked });
        }}
      />
      {label}
    </label>
  );
  return (
    <form
      className="max-w-3xl space-y-1"
      noValidate
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      {choice("mode", "Mode", ["lease", "proxy", "off"])}
      {FIRST.map(([field, label, example]) => (
        <Field key={field} label={label} {...said(field)}>
          <input
            className="input input-sm w-full"
            aria-label={label}
            placeholder={`as in ${example}`}
            value={fields[field]}
            onChange={(event) => {
              set({ [field]: event.target.value });
            }}
          />
        </Field>
      ))}
      {choice("newcomers", "Newcomers get", ["unanswered", "nothing", "menu", "survey"])}
      {choice("identify", "Machines known by", ["by mode", "address", "first-claim"])}
      {choice("http_boot", "HTTP boot", ["http", "https"])}
      <Field label="Further options" {...said("options")}>
        <textarea
          className="textarea textarea-sm w-full font-mono"
          aria-label="Further options"
          rows={2}
          placeholder="a line each, as in interface-mtu=1400"
          value={fields.options}
          onChange={(event) => {
            set({ options: event.target.value });
          }}
        />
      </Field>
      {tick("probe", "Probe an address before it is offered again")}
      {tick("authoritative", "Refuse clients that ask for addresses of other networks")}
      <Conflict
        save={save}
        theirs={() => {
          if (props.replaces) {
            take(props.replaces);
          }
        }}
      />
      {save.isError && faults.length === 0 && conflictOf(save.error) === undefined && (
        <p role="alert" className="text-error">
          {save.error.message}
        </p>
      )}
      <div className="flex items-center gap-3 pt-3">
        <button type="submit" className="btn btn-primary btn-sm" disabled={save.isPending}>
          {props.replaces === undefined ? "Add the subnet" : "Save"}
        </button>
        {faults.length > 0 && (
          <span role="alert" className="text-error">
            {faults.length === 1 ? "One thing is wrong" : `${faults.length} things are wrong`}; nothing was saved.
          </span>
        )}
      </div>
    </form>
  );
}

function Field(props: { label: string; faults: Fault[]; reason: string | undefined; children: ReactNode }) {
  return (
    <div className="grid gap-x-4 py-0.5 sm:grid-cols-[11rem_minmax(0,1fr)]">
      <span className="pt-1 text-base-content/75">{props.label}</span>
      <div>
        {props.children}
        {props.reason && <p className="text-xs text-base-content/70">because {props.reason}</p>}
        {props.faults.map((fault) => (
          <p key={fault.place + fault.what} className="border-l-4 border-error pl-2 text-error">
            {fault.what}. <Prose text={fault.fix} />
          </p>
        ))}
      </div>
    </div>
  );
}
