import { ArrowLeft } from "lucide-react";
import { type ReactNode, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import type { Edited, MachineDetail } from "../api/client";
import { useInstallsOf } from "../installs/useInstalls";
import { ArmJob } from "../jobs/ArmJob";
import { JobTable } from "../jobs/JobTable";
import { useJobsOf } from "../jobs/useJobs";
import { FactsPanel } from "../facts/FactsPanel";
import { MachineRules } from "../rules/MachineRules";
import { Pairs } from "../parts/Pairs";
import { Parameters } from "../parts/Parameters";
import { Route } from "../parts/Route";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { StateMark } from "../parts/StateMark";
import { type Column, Table } from "../parts/Table";
import { Ago, When } from "../parts/Time";
import type { InstallRow } from "../api/client";
import { Diagnoses } from "../traces/Diagnoses";
import { Sequence } from "../traces/Sequence";
import { MachineSettings } from "./MachineSettings";
import { routeState } from "./routeState";
import { useMachine } from "./useMachines";
import { Preformatted } from "../parts/Preformatted";

const TABS = [
  { key: "overview", name: "Overview" },
  { key: "installs", name: "Installs" },
  { key: "jobs", name: "Jobs" },
  { key: "trace", name: "Trace" },
  { key: "facts", name: "Facts" },
  { key: "rules", name: "Rules" },
  { key: "settings", name: "Settings" },
] as const;
type Tab = (typeof TABS)[number]["key"];

/** One machine, in tabs; which one is shown is part of the address. */
export function MachinePage() {
  const { name = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const machine = useMachine(name);
  const tab = TABS.find(({ key }) => key === params.get("tab"))?.key ?? "overview";
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/machines" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Machines
      </Link>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-lg font-semibold">{name}</h1>
        {machine.data && <StateMark state={machine.data.stage} />}
        {machine.data?.install != null && <Route step={machine.data.last_step} state={routeState(machine.data)} />}
        <Link className="btn btn-primary btn-sm ml-auto" to={`/arm?machine=${encodeURIComponent(name)}`}>
          Arm an install
        </Link>
      </div>
      <div role="tablist" aria-label="Parts of this page" className="mb-4 flex gap-4 border-b border-base-300">
        {TABS.map(({ key, name: label }) => (
          <button
            key={key}
            type="button"
            role="tab"
            id={`tab-${key}`}
            aria-selected={tab === key}
            aria-controls="tab-panel"
            className={`cursor-pointer border-b-2 pb-1.5 ${tab === key ? "border-accent font-semibold" : "border-transparent hover:border-base-300"}`}
            onClick={() => {
              setParams(key === "overview" ? {} : { tab: key }, { replace: true });
            }}
          >
            {label}
          </button>
        ))}
      </div>
      <div role="tabpanel" id="tab-panel" aria-labelledby={`tab-${tab}`}>
        <Answered query={machine}>{(data) => <Panel tab={tab} machine={data} />}</Answered>
      </div>
    </div>
  );
}

function Panel({ tab, machine }: { tab: Tab; machine: Edited<MachineDetail> }): ReactNode {
  switch (tab) {
    case "overview":
      return <Overview machine={machine} />;
    case "installs":
      return <Installs name={machine.name} />;
    case "jobs":
      return <Jobs name={machine.name} />;
    case "trace":
      return <Trace machine={machine} />;
    case "facts":
      return <FactsPanel who={machine.name} />;
    case "rules":
      return <MachineRules who={machine.name} />;
    case "settings":
      return (
        <div className="max-w-4xl">
          <MachineSettings machine={machine} />
        </div>
      );
  }
}

function Overview({ machine }: { machine: MachineDetail }) {
  const installed = machine.installed;
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,28rem)_minmax(0,1fr)]">
      <div>
        <Section title="Machine">
          <Pairs
            pairs={[
              [
                "Image",
                installed ? (
                  <>
                    <Link className="link-hover" to={`/images/${installed.image}`}>
                      {installed.image} r{installed.revision}
                    </Link>{" "}
                    since <When at={installed.at} />
                  </>
                ) : (
                  "–"
                ),
              ],
              [
                "Install",
                machine.install == null ? (
                  "–"
                ) : (
                  <Link className="link" to={`/installs/${machine.install}`}>
                    {machine.install}
                  </Link>
                ),
              ],
              ["Address", machine.address ?? "–"],
              ["Reserved", machine.reserved.join(", ") || "–"],
              ["MAC", <span key="mac" className="font-mono text-xs">{machine.macs.join(", ")}</span>],
              ["Last seen", <Ago key="seen" at={machine.last_seen} />],
              ["Default boot", `${machine.default_boot}${machine.live_answers ? `, with answers ${machine.live_answers}` : ""}`],
              [
                "Labels",
                machine.labels.length === 0
                  ? "–"
                  : machine.labels.map((label) => (
                      <Link key={label} className="link-hover mr-2" to={`/labels/${encodeURIComponent(label)}`}>
                        {label}
                      </Link>
                    )),
              ],
              ["Details", Object.entries(machine.details).map(([name, value]) => `${name} = ${value}`).join(", ") || "–"],
              ["Menu", machine.menu == null ? "–" : <Link key="menu" className="link" to={`/menus/${machine.menu}`}>{machine.menu}</Link>],
              ["Registered", <When key="created" at={machine.created} />],
            ]}
          />
        </Section>
      </div>
      <div>
        {machine.diagnoses.length > 0 && (
          <Section title="What stops it">
            <Diagnoses diagnoses={machine.diagnoses} />
          </Section>
        )}
        <Section title="If it boots now">
          <p className="font-medium">It gets {machine.plan.gets}.</p>
          <p className="mb-3">Why: {machine.plan.why}.</p>
          {machine.plan.parameters.length > 0 && (
            <details className="mb-2">
              <summary className="cursor-pointer">Kernel parameters, and where each comes from</summary>
              <Parameters words={machine.plan.parameters} />
            </details>
          )}
          {machine.plan.menu && (
            <details>
              <summary className="cursor-pointer">What its loader reads</summary>
              <Preformatted label="Menu" className="mt-2 bg-base-200 p-2 text-xs">{machine.plan.menu}</Preformatted>
            </details>
          )}
        </Section>
      </div>
    </div>
  );
}

const INSTALLS: Column<InstallRow>[] = [
  {
    name: "No.",
    value: ({ number }) => -number,
    cell: ({ number }) => (
      <Link className="link" to={`/installs/${number}`}>
        {number}
      </Link>
    ),
  },
  { name: "Image", value: ({ image, revision }) => `${image} r${revision}` },
  { name: "Answers", value: ({ answers, answers_version }) => `${answers} v${answers_version}` },
  { name: "State", value: ({ state }) => state, cell: ({ state }) => <StateMark state={state} /> },
  { name: "Armed", value: ({ armed_at }) => armed_at, cell: ({ armed_at }) => <When at={armed_at} /> },
  { name: "Ended", value: ({ ended_at }) => ended_at ?? "", cell: ({ ended_at }) => <When at={ended_at} /> },
  { name: "Armed by", show: "hidden sm:table-cell", value: ({ armed_by }) => armed_by },
];

function Installs({ name }: { name: string }) {
  const installs = useInstallsOf(name);
  return (
    <Answered query={installs}>
      {(list) =>
        list.installs.length === 0 ? (
          <p className="text-base-content/75">No install was ever armed for it.</p>
        ) : (
          <Table label="Installs" rows={list.installs} columns={INSTALLS} keyOf={({ number }) => String(number)} />
        )
      }
    </Answered>
  );
}

function Jobs({ name }: { name: string }) {
  const jobs = useJobsOf(name);
  const [arming, setArming] = useState(false);
  return (
    <>
      <button
        type="button"
        className="btn btn-sm mb-3"
        onClick={() => {
          setArming(true);
        }}
      >
        Arm a job
      </button>
      <Answered query={jobs}>
        {(list) =>
          list.jobs.length === 0 ? (
            <p className="text-base-content/75">No job was ever armed for it.</p>
          ) : (
            <JobTable jobs={list.jobs} ofOne />
          )
        }
      </Answered>
      {arming && (
        <ArmJob
          machines={[name]}
          close={() => {
            setArming(false);
          }}
        />
      )}
    </>
  );
}

/** Events that the page of a machine shows; its trace has them all. */
const SHOWN = 60;

function Trace({ machine }: { machine: MachineDetail }) {
  return (
    <>
      {machine.diagnoses.length > 0 && <Diagnoses diagnoses={machine.diagnoses} />}
      <p className="mb-2">
        <Link className="link" to={`/traces/${machine.name}`}>
          The whole trace, compared with another machine&apos;s, or as a capture file
        </Link>
      </p>
      <Sequence lines={machine.trace.slice(-SHOWN)} lastBoot={null} />
    </>
  );
}
