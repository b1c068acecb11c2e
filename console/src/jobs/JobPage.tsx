import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";

import { answer, api, type BurnInFound, type JobDetail } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { Lines } from "../parts/Lines";
import { Pairs } from "../parts/Pairs";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { When } from "../parts/Time";
import { size } from "../parts/size";
import { span } from "../parts/time";
import { JobProgress, JobStateMark } from "./JobState";
import { Shell } from "./Shell";
import { useJob } from "./useJobs";

/** One job: what came of it, what it wrote, what happened to it. */
export function JobPage() {
  const number = Number(useParams().number);
  const job = useJob(number);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/jobs" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Jobs
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Job {number}</h1>
      <Answered query={job}>{(data) => <Detail job={data} />}</Answered>
    </div>
  );
}

function Detail({ job }: { job: JobDetail }) {
  const [cancelling, setCancelling] = useState(false);
  const isOpen = job.ended_at == null;
  const faults = job.result?.faults ?? [];
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-x-8 lg:grid-cols-[minmax(0,34rem)_minmax(0,1fr)]">
      {/* As wide as programs for terminals expect. */}
      {job.kind === "shell" && <div className="lg:col-span-2"><Shell job={job} /></div>}
      <div>
        <Section title="The record">
          <div className="mb-3 flex flex-wrap items-center gap-4">
            <span><JobStateMark job={job} /></span>
            {isOpen && (
              <button
                type="button"
                className="btn btn-sm"
                onClick={() => {
                  setCancelling(true);
                }}
              >
                Cancel
              </button>
            )}
          </div>
          <div className="mb-3"><JobProgress job={job} /></div>
          <Pairs
            pairs={[
              ["Machine", <Link key="machine" className="link" to={job.machine.includes(":") ? `/facts/${job.machine}` : `/machines/${job.machine}`}>{job.machine}</Link>],
              ["Job", job.summary],
              ["Armed", <span key="armed"><When at={job.armed_at} /> by {job.armed_by}</span>],
              ["Begun", <When key="began" at={job.began_at} />],
              ["Ended", <span key="ended"><When at={job.ended_at} />{job.began_at && job.ended_at && ` after ${span(job.began_at, job.ended_at)}`}</span>],
              ...(job.then == null ? [] : [["Afterwards", job.then] as [string, string]]),
              ...(faults.length === 0 && job.outcome != null ? [["Outcome", job.outcome] as [string, string]] : []),
            ]}
          />
        </Section>
        {faults.length > 0 && (
          <div role="alert" className="mb-6 border-l-4 border-error pl-3">
            <p className="font-semibold">What went wrong</p>
            <ul>{faults.map((fault) => <li key={fault}>{fault}</li>)}</ul>
          </div>
        )}
        {job.result?.burn_in != null && <Found found={job.result.burn_in} />}
        {(job.result?.shown ?? []).length > 0 && (
          <Section title="What showed where it is">
            <ul>{job.result?.shown?.map((light) => <li key={light}>{light}</li>)}</ul>
          </Section>
        )}
        {Object.entries(job.result?.found ?? {}).length > 0 && (
          <Section title="What the site's programs said">
            <Pairs pairs={Object.entries(job.result?.found ?? {}).map(([name, value]) => [name, JSON.stringify(value)])} />
          </Section>
        )}
      </div>
      <div>
        <Lines title="What it wrote" label="The job's lines" lines={job.log} />
        <Section title="What happened">
          <ol className="space-y-1">
            {job.steps.map((step, index) => (
              <li key={index} className="grid grid-cols-[5rem_minmax(0,1fr)] gap-2">
                <span className="text-right text-base-content/70">+{span(job.armed_at, step.at)}</span>
                <span className="min-w-0 break-words">{step.text}</span>
              </li>
            ))}
          </ol>
        </Section>
      </div>
      {cancelling && (
        <Confirm
          title={`Cancel job ${job.number}?`}
          text="What was done of it stays done."
          action="Cancel it"
          act={async () => answer(await api.POST("/api/v1/jobs/cancel", { body: { numbers: [job.number] } }))}
          close={() => {
            setCancelling(false);
          }}
        />
      )}
    </div>
  );
}

/** What a burn-in found. */
function Found({ found }: { found: BurnInFound }) {
  const rate = (mbit: number) => `${mbit.toFixed(0)} Mbit/s`;
  const pairs: [string, string][] = [];
  if (found.memory != null) {
    pairs.push(["Memory", `${found.memory.mib} MiB, passes: ${found.memory.passes}, errors: ${found.memory.errors}`]);
  }
  if (found.cpu != null) {
    pairs.push(["Processor", `threads: ${found.cpu.threads}, rounds: ${found.cpu.rounds}, errors: ${found.cpu.errors}`]);
  }
  for (const disk of found.disks ?? []) {
    const fast = disk.took_ms > 0 ? `, ${size(Math.round((disk.read * 1000) / disk.took_ms))}/s` : "";
    const serial = disk.serial == null ? "" : `${disk.serial}: `;
    pairs.push([`Disk ${disk.name}`, `${serial}${size(disk.read)} of ${size(disk.size)} read${fast}, errors: ${disk.errors}`]);
  }
  if (found.network != null) {
    pairs.push(["Network", `${rate(found.network.in_mbit_s)} in, ${rate(found.network.out_mbit_s)} out`]);
  }
  for (const { sensor, highest, critical } of found.temperatures ?? []) {
    pairs.push([sensor, `${highest.toFixed(0)} °C${critical == null ? "" : `, of at most ${critical.toFixed(0)} °C`}`]);
  }
  if (found.corrected_errors != null) {
    pairs.push(["Memory controller", `errors corrected: ${found.corrected_errors}, not corrected: ${found.uncorrected_errors ?? 0}`]);
  }
  return (
    <Section title="What was found">
      <Pairs pairs={pairs} />
    </Section>
  );
}
