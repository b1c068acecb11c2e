import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";

import { answer, api } from "../api/client";
import { Field, OtherFaults, pairs, words } from "../parts/Form";

const FIELDS = ["name", "macs", "labels", "details", "default_boot"];

/** Registers a machine. What else it has is entered on its page. */
export function NewMachinePage() {
  const [params] = useSearchParams();
  const [name, setName] = useState("");
  const [macs, setMacs] = useState(params.get("mac") ?? "");
  const [labels, setLabels] = useState("");
  const [details, setDetails] = useState("");
  const [boot, setBoot] = useState("local-disk");
  const queries = useQueryClient();
  const go = useNavigate();
  const add = useMutation({
    mutationFn: async () =>
      answer(
        await api.POST("/api/v1/machines", {
          body: {
            name: name.trim(),
            macs: words(macs),
            labels: words(labels),
            details: pairs(details),
            default_boot: boot,
          },
        }),
      ),
    onSuccess: async (machine) => {
      await queries.invalidateQueries();
      await go(`/machines/${machine.name}`);
    },
  });
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/machines" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Machines
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Add a machine</h1>
      <form
        className="max-w-xl space-y-3"
        aria-label="Machine"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <Field field="name" label="Name" hint="Its host name: letters, digits and inner hyphens." error={add.error}>
          <input className="input w-full" placeholder="auklet-chart" value={name} onChange={(event) => { setName(event.target.value); }} />
        </Field>
        <Field field="macs" label="MAC addresses" hint="In any common form, separated by blanks. The first is the NIC it boots by." error={add.error}>
          <input className="input w-full font-mono" placeholder="02:00:5e:00:53:01" value={macs} onChange={(event) => { setMacs(event.target.value); }} />
        </Field>
        <Field field="labels" label="Labels" error={add.error}>
          <input className="input w-full" placeholder="kiosk spare" value={labels} onChange={(event) => { setLabels(event.target.value); }} />
        </Field>
        <Field field="details" label="Details, one on each line" error={add.error}>
          <textarea className="textarea w-full font-mono" rows={2} placeholder="rack=r12" value={details} onChange={(event) => { setDetails(event.target.value); }} />
        </Field>
        <Field field="default_boot" label="While no install is armed" error={add.error}>
          <select className="select w-full" value={boot} onChange={(event) => { setBoot(event.target.value); }}>
            <option value="local-disk">it starts from its local disk</option>
            <option value="menu">it shows a menu</option>
            <option value="ignored">it gets no boot information</option>
          </select>
        </Field>
        <OtherFaults fields={FIELDS} error={add.error} />
        <button type="submit" className="btn btn-primary" disabled={add.isPending}>
          Add
        </button>
      </form>
    </div>
  );
}
