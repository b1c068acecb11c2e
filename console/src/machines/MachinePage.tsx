import { ArrowLeft } from "lucide-react";
import { Link, useParams } from "react-router";

import type { Edited, MachineDetail } from "../api/client";
import { Pairs } from "../parts/Pairs";
import { Parameters } from "../parts/Parameters";
import { Route } from "../parts/Route";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { StateMark } from "../parts/StateMark";
import { ago, clock, useNow } from "../parts/time";
import { Diagnoses } from "../traces/Diagnoses";
import { Sequence } from "../traces/Sequence";
import { MachineSettings } from "./MachineSettings";
import { routeState } from "./routeState";
import { useMachine } from "./useMachines";

export function MachinePage() {
  const { name = "" } = useParams();
  const machine = useMachine(name);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Machines
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">{name}</h1>
      <Answered query={machine}>{(data) => <Detail machine={data} />}</Answered>
    </div>
  );
}

/** Events that the page of a machine shows; its trace has them all. */
const SHOWN = 60;

function recent(trace: MachineDetail["trace"]) {
  return trace.slice(-SHOWN);
}

function Detail({ machine }: { machine: Edited<MachineDetail> }) {
  const now = useNow();
  const installed = machine.installed;
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,26rem)_minmax(0,1fr)]">
      <div>
        <Section title="Now">
          <div className="mb-3 flex flex-wrap items-center gap-4">
            <StateMark state={machine.stage} />
            {machine.install != null && <Route step={machine.last_step} state={routeState(machine)} />}
            <Link className="btn btn-sm" to={`/arm?machine=${encodeURIComponent(machine.name)}`}>
              Arm
            </Link>
            {machine.install != null && (
              <Link className="link" to={`/installs/${machine.install}`}>
                install {machine.install}
              </Link>
            )}
          </div>
          <Pairs
            pairs={[
              ["Holds", installed ? `${installed.image} r${installed.revision} since ${clock(installed.at)}` : "–"],
              ["Address", machine.address ?? "–"],
              ["MAC", <span className="font-mono text-xs">{machine.macs.join(", ")}</span>],
              ["Seen", ago(machine.last_seen, now)],
              ["Standing", typeof machine.standing === "string" ? machine.standing : `live: ${machine.standing.live}${machine.live_answers ? `, with answers ${machine.live_answers}` : ""}`],
              ["Labels", machine.labels.join(", ") || "–"],
              ["Facts", Object.entries(machine.facts).map(([name, value]) => `${name} = ${value}`).join(", ") || "–"],
              ["Menu", machine.menu == null ? "–" : <Link className="link" to={`/menus/${machine.menu}`}>{machine.menu}</Link>],
              ["Registered", clock(machine.created)],
            ]}
          />
        </Section>
        <Section title="Settings">
          <details>
            <summary className="cursor-pointer">Change what it does, and what is known of it</summary>
            <MachineSettings machine={machine} />
          </details>
        </Section>
        <Section title="If it boots now">
          <p className="font-medium">It gets {machine.plan.gets},</p>
          <p className="mb-3">because {machine.plan.why}.</p>
          {machine.plan.parameters.length > 0 && (
            <details className="mb-2">
              <summary className="cursor-pointer">Kernel parameters, and where each comes from</summary>
              <Parameters words={machine.plan.parameters} />
            </details>
          )}
          {machine.plan.menu && (
            <details>
              <summary className="cursor-pointer">What its loader reads</summary>
              <pre className="mt-2 overflow-x-auto bg-base-200 p-2 text-xs">{machine.plan.menu}</pre>
            </details>
          )}
        </Section>
      </div>
      <div>
        {machine.diagnoses.length > 0 && (
          <Section title="What stops it">
            <Diagnoses diagnoses={machine.diagnoses} />
          </Section>
        )}
        <Section title="What it did on the wire">
          <p className="mb-2">
            <Link className="link" to={`/traces/${machine.name}`}>
              The whole trace, beside another machine&apos;s, or as a capture file
            </Link>
          </p>
          <Sequence lines={recent(machine.trace)} lastBoot={null} />
        </Section>
      </div>
    </div>
  );
}
