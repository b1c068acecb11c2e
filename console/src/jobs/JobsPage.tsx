import { useState } from "react";
import { useSearchParams } from "react-router";

import type { JobState } from "../api/client";
import { Empty, Failed, Loading } from "../parts/States";
import { ArmJob } from "./ArmJob";
import { JobTable } from "./JobTable";
import { PAGE, useJobs } from "./useJobs";

const STATES: JobState[] = ["failed", "stalled", "armed", "running", "done", "cancelled"];

/** Every job, newest first. */
export function JobsPage() {
  const [params, setParams] = useSearchParams();
  const chosen = params.get("state") as JobState | null;
  const page = Number(params.get("page") ?? 0);
  const jobs = useJobs(chosen ? [chosen] : [], page);
  const [arming, setArming] = useState(false);
  const total = jobs.data?.total ?? 0;
  const to = (next: number, label: string) => (
    <button
      type="button"
      className="btn btn-sm"
      disabled={next < 0 || next * PAGE >= total}
      onClick={() => {
        setParams({ ...(chosen && { state: chosen }), page: String(next) });
      }}
    >
      {label}
    </button>
  );
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-semibold">{jobs.data ? `${total} ${total === 1 ? "job" : "jobs"}` : "Jobs"}</h1>
        <select
          className="select w-44"
          aria-label="State"
          value={chosen ?? ""}
          onChange={(event) => {
            setParams(event.target.value ? { state: event.target.value } : {});
          }}
        >
          <option value="">all states</option>
          {STATES.map((state) => (
            <option key={state} value={state}>{state}</option>
          ))}
        </select>
        <button
          type="button"
          className="btn btn-sm btn-primary"
          onClick={() => {
            setArming(true);
          }}
        >
          Arm
        </button>
        {total > PAGE && (
          <nav aria-label="Pages of jobs" className="flex gap-2">
            {to(page - 1, "Newer")}
            {to(page + 1, "Older")}
          </nav>
        )}
      </div>
      <Failed query={jobs} />
      {jobs.isPending && <Loading />}
      {jobs.data?.jobs.length === 0 && (
        <Empty title={chosen ? `No job is ${chosen}` : "No job was armed yet"}>
          A job is work that the survey&apos;s system does on a machine: measuring it anew, a burn-in, a command. Arm one
          here, on machines that are selected in their list, or by <code>lastmile job arm MACHINE --kind burn-in</code>.
        </Empty>
      )}
      {jobs.data && jobs.data.jobs.length > 0 && <JobTable jobs={jobs.data.jobs} />}
      {arming && (
        <ArmJob
          machines={[]}
          close={() => {
            setArming(false);
          }}
        />
      )}
    </div>
  );
}
