import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { answer, api, basedOn, done, type Edited, edited, type RuleDraft, type RuleUseView, type RuleView } from "../api/client";
import { useAllAnswers } from "../answers/useAnswers";
import { useReaders } from "../images/useImages";
import { Field, words } from "../parts/Form";
import { NotSaved, PageEnd } from "../parts/FormEnd";
import { NameActions } from "../parts/NameActions";
import { useRested } from "../parts/rested";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { When } from "../parts/Time";
import { useDraft } from "../parts/useDraft";
import { Trial } from "./Trial";
import { useRule, useRuleUses, useTrial } from "./useRules";

const FIELDS = ["name", "mode", "rank", "condition", "labels", "details", "location", "address", "default_boot", "arm", "image", "answers", "hourly_limit"];

/** A rule beside what it would do. */
export function EditRulePage() {
  const { name = "" } = useParams();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/rules" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Rules
      </Link>
      {name === "new" ? <Form saved={undefined} /> : <Known name={name} />}
    </div>
  );
}

function Known({ name }: { name: string }) {
  const rule = useRule(name);
  return <Answered query={rule}>{(data) => <Form key={data.name} saved={data} />}</Answered>;
}

interface Draft {
  mode: "off" | "propose" | "apply";
  rank: string;
  condition: string;
  labels: string;
  details: string;
  location: boolean;
  machineName: string;
  address: string;
  defaultBoot: string;
  /** Minutes of the burn-in that is done first; empty for none. */
  burnIn: string;
  arm: boolean;
  image: string;
  answers: string;
  hourlyLimit: string;
}

function toDraft(view: RuleView | undefined): Draft {
  const rule = view?.rule;
  return {
    mode: rule?.mode ?? "propose",
    rank: String(rule?.rank ?? 100),
    condition: rule?.condition ?? "",
    labels: (rule?.labels ?? []).join(" "),
    details: Object.entries(rule?.details ?? {}).map(([name, value]) => `${name} = ${value}`).join("\n"),
    location: rule?.location ?? false,
    machineName: rule?.name ?? "",
    address: rule?.address ?? "",
    defaultBoot: rule?.default_boot ?? "",
    burnIn: burnInOf(rule),
    arm: rule?.arm ?? false,
    image: rule?.image ?? "",
    answers: rule?.answers ?? "",
    hourlyLimit: String(rule?.hourly_limit ?? 50),
  };
}

/** What else a saved rule says of its burn-in stays. */
function savedBurnIn(saved: RuleDraft | undefined) {
  return (saved?.jobs ?? []).find((job) => job.kind === "burn-in");
}

/** The minutes of the burn-in that is done first; empty for none. */
function burnInOf(rule: RuleDraft | undefined): string {
  const burnIn = savedBurnIn(rule);
  return burnIn === undefined ? "" : String(burnIn.minutes ?? 30);
}

function toRule(draft: Draft, saved: RuleDraft | undefined): RuleDraft {
  const pairs = draft.details
    .split("\n")
    .filter((line) => line.trim() !== "")
    .map((line) => {
      const [name = "", ...rest] = line.split("=");
      return [name.trim(), rest.join("=").trim()] as const;
    });
  return {
    mode: draft.mode,
    rank: Number.parseInt(draft.rank, 10) || 0,
    condition: draft.condition.trim(),
    labels: words(draft.labels),
    details: Object.fromEntries(pairs),
    location: draft.location,
    name: draft.machineName.trim() || null,
    address: draft.address.trim() || null,
    default_boot: draft.defaultBoot.trim() || null,
    jobs: draft.burnIn === "" ? [] : [{ ...savedBurnIn(saved), kind: "burn-in" as const, minutes: Number.parseInt(draft.burnIn, 10) || 0 }],
    arm: draft.arm,
    image: draft.arm ? draft.image || null : null,
    answers: draft.arm ? draft.answers || null : null,
    hourly_limit: Number.parseInt(draft.hourlyLimit, 10) || 0,
  };
}

const MODES: [Draft["mode"], string][] = [
  ["propose", "propose: somebody accepts it"],
  ["apply", "apply: it is done at once"],
  ["off", "off"],
];

function Form({ saved }: { saved: Edited<RuleView> | undefined }) {
  const [name, setName] = useState(saved?.name ?? "");
  const { draft, setDraft, headers, take, rebase } = useDraft(saved, toDraft);
  const images = useReaders();
  const answers = useAllAnswers();
  const queries = useQueryClient();
  const go = useNavigate();
  const rule = toRule(draft, saved?.rule);
  const trial = useTrial(name, useRested(rule));
  const save = useMutation({
    mutationFn: async (etag?: string) =>
      edited(
        await api.PUT("/api/v1/rules/{name}", {
          params: { path: { name: name.trim() } },
          headers: saved ? headers(etag) : { "If-None-Match": "*" },
          body: rule,
        }),
      ),
    onSuccess: async ({ etag }) => {
      rebase(etag);
      await queries.invalidateQueries();
      if (!saved) {
        await go(`/rules/${encodeURIComponent(name.trim())}`);
      }
    },
  });
  const set = (part: Partial<Draft>) => {
    setDraft({ ...draft, ...part });
  };
  // What is wrong with it is told while it is written; a name is only missed when it is saved.
  const error = save.error ?? trial.error;
  return (
    <>
      <h1 className="mt-1 mb-3 text-lg font-semibold">{saved ? saved.name : "Add a rule"}</h1>
      <div className="grid gap-x-8 gap-y-6 xl:grid-cols-[minmax(0,30rem)_minmax(0,1fr)]">
        <form
          className="space-y-3"
          aria-label="Rule"
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate(undefined);
          }}
        >
          {!saved && (
            <Field field="rule" label="Name of the rule" error={null}>
              <input className="input w-full" placeholder="quay-kiosks" value={name} onChange={(event) => { setName(event.target.value); }} />
            </Field>
          )}
          <Field
            field="condition"
            label="Condition"
            hint="What surveys measured and people said: product, memory_gib, cores, disks, switch, port, location.rack, labels, details.NAME, subnet …"
            error={error}
          >
            <textarea className="textarea w-full font-mono text-xs" rows={3} placeholder="product == 'MK-8' and location.rack == 'r12'" value={draft.condition} onChange={(event) => { set({ condition: event.target.value }); }} />
          </Field>
          <div className="grid gap-3 sm:grid-cols-[1fr_6rem_7rem]">
            <Field field="mode" label="Mode" error={error}>
              <select className="select w-full" value={draft.mode} onChange={(event) => { set({ mode: event.target.value as Draft["mode"] }); }}>
                {MODES.map(([mode, text]) => (
                  <option key={mode} value={mode}>{text}</option>
                ))}
              </select>
            </Field>
            <Field field="rank" label="Rank" error={error}>
              <input type="number" className="input w-full" value={draft.rank} onChange={(event) => { set({ rank: event.target.value }); }} />
            </Field>
            <Field field="hourly_limit" label="Most in an hour" error={error}>
              <input type="number" min={1} className="input w-full" value={draft.hourlyLimit} onChange={(event) => { set({ hourlyLimit: event.target.value }); }} />
            </Field>
          </div>
          <fieldset className="space-y-3 border-t border-base-300 pt-2">
            <legend className="sr-only">What follows</legend>
            <div className="grid gap-3 sm:grid-cols-2">
              <Field field="name" label="Name of unknown machines" hint="A pattern: {{ counter | pad(2) }} counts them." error={error}>
                <input className="input w-full font-mono text-xs" placeholder="kiosk-{{ counter | pad(2) }}" value={draft.machineName} onChange={(event) => { set({ machineName: event.target.value }); }} />
              </Field>
              <Field field="address" label="Reserved address" hint="Outside the pools." error={error}>
                <input className="input w-full font-mono text-xs" placeholder="192.0.2.{{ 20 + counter }}" value={draft.address} onChange={(event) => { set({ address: event.target.value }); }} />
              </Field>
              <Field field="labels" label="Labels" hint="Separated by blanks." error={error}>
                <input className="input w-full" placeholder="kiosk" value={draft.labels} onChange={(event) => { set({ labels: event.target.value }); }} />
              </Field>
              <Field field="default_boot" label="Default boot" error={error}>
                <input className="input w-full" placeholder="unchanged" list="default-boots" value={draft.defaultBoot} onChange={(event) => { set({ defaultBoot: event.target.value }); }} />
              </Field>
              <datalist id="default-boots">
                <option value="menu" />
                <option value="ignored" />
                {images.filter(({ kind }) => kind === "live").map(({ name: image }) => <option key={image} value={`live:${image}`} />)}
              </datalist>
            </div>
            <Field field="details" label="Details, one on each line" error={error}>
              <textarea className="textarea w-full font-mono text-xs" rows={2} placeholder="switch_port = {{ switch }} {{ port }}" value={draft.details} onChange={(event) => { set({ details: event.target.value }); }} />
            </Field>
            <label className="flex items-center gap-2">
              <input type="checkbox" className="checkbox checkbox-sm" checked={draft.location} onChange={(event) => { set({ location: event.target.checked }); }} />
              <span>
                Hall, row, rack and unit of the switch port, by the <Link className="link" to="/racks?show=ports">table of locations</Link>
              </span>
            </label>
            <div className="flex flex-wrap items-center gap-2">
              <label className="flex items-center gap-2">
                <input type="checkbox" className="checkbox checkbox-sm" checked={draft.burnIn !== ""} onChange={(event) => { set({ burnIn: event.target.checked ? "30" : "" }); }} />
                <span>A burn-in first: nothing is armed before it is done</span>
              </label>
              {draft.burnIn !== "" && (
                <label className="flex items-center gap-2">
                  <input type="number" min={1} className="input input-sm w-24" aria-label="Minutes of the burn-in" value={draft.burnIn} onChange={(event) => { set({ burnIn: event.target.value }); }} />
                  minutes
                </label>
              )}
            </div>
            <label className="flex items-center gap-2">
              <input type="checkbox" className="checkbox checkbox-sm" checked={draft.arm} onChange={(event) => { set({ arm: event.target.checked }); }} />
              <span>Arm an install on machines that never had one</span>
            </label>
            {draft.arm && (
              <div className="grid gap-3 sm:grid-cols-2">
                <Field field="image" label="Image" error={error}>
                  <select className="select w-full" value={draft.image} onChange={(event) => { set({ image: event.target.value }); }}>
                    <option value="">that of its labels</option>
                    {images.map((image) => (
                      <option key={image.name} value={image.name}>{image.name}</option>
                    ))}
                  </select>
                </Field>
                <Field field="answers" label="Answers" error={error}>
                  <select className="select w-full" value={draft.answers} onChange={(event) => { set({ answers: event.target.value }); }}>
                    <option value="">those of its labels</option>
                    {(answers.data ?? []).filter((one) => !one.name.includes(":")).map((one) => (
                      <option key={one.name} value={one.name}>{one.name}</option>
                    ))}
                  </select>
                </Field>
              </div>
            )}
          </fieldset>
          <NotSaved fields={FIELDS} save={save} theirs={saved && (() => { take(saved); })} />
          <PageEnd save={save} isNew={!saved}>
            {saved && (
              <NameActions
                noun="rule"
                name={name}
                page={(of) => `/rules${of === undefined ? "" : `/${encodeURIComponent(of)}`}`}
                rename={async (to) => answer(await api.POST("/api/v1/rules/{name}/rename", { params: { path: { name } }, body: { to } }))}
                remove={async () => {
                  done(await api.DELETE("/api/v1/rules/{name}", { params: { path: { name } }, headers: basedOn(saved.etag) }));
                }}
                lost="What it gave machines stays."
              />
            )}
          </PageEnd>
        </form>
        <div>
          <Section title="What it would do">
            {rule.condition === "" ? (
              <p className="text-base-content/75">Write a condition: every machine that was surveyed is held against it here, before anything is saved.</p>
            ) : trial.data === undefined ? (
              <p className="text-base-content/75">{trial.error ? "The rule cannot be read yet." : "Looking at every machine …"}</p>
            ) : (
              <div className={trial.error || trial.isPlaceholderData ? "opacity-60" : ""}>
                <Trial trial={trial.data} />
              </div>
            )}
          </Section>
          {saved && <Uses name={saved.name} />}
        </div>
      </div>
    </>
  );
}

const USES: Column<RuleUseView>[] = [
  { name: "When", value: ({ at }) => at, cell: ({ at }) => <span className="whitespace-nowrap"><When at={at} /></span> },
  {
    name: "Machine",
    value: ({ machine }) => machine,
    cell: ({ machine }) => <Link className="link-hover font-medium" to={`/machines/${machine}?tab=rules`}>{machine}</Link>,
  },
  { name: "Changed", value: ({ changes }) => changes.join(", ") },
  { name: "Accepted by", show: "hidden sm:table-cell", value: ({ by }) => by ?? "–" },
];

function Uses({ name }: { name: string }) {
  const uses = useRuleUses(name);
  return (
    <Section title="What it did">
      <Answered query={uses} rows={2}>
        {(all) =>
          all.length === 0 ? (
            <p className="text-base-content/75">It has not changed any machine yet.</p>
          ) : (
            <Table label="What it did" rows={all} columns={USES} keyOf={({ at, mac }) => `${at} ${mac}`} />
          )
        }
      </Answered>
    </Section>
  );
}
