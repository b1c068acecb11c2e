import type { JobRow } from "../api/client";
import { StateMark } from "../parts/StateMark";
import { duration } from "../parts/size";

/** The state of a job, and that its machine is not heard of. */
export function JobStateMark({ job }: { job: JobRow }) {
  return (
    <>
      <StateMark state={job.state} />
      {job.state === "running" && !job.is_connected && <span className="block pl-3 text-xs font-semibold">not connected</span>}
      {job.state === "armed" && !job.is_connected && (
        <span className="block pl-3 text-xs text-base-content/75">waits for a network boot</span>
      )}
    </>
  );
}

/** How far a job is: a bar where that is known, and what it is at. */
export function JobProgress({ job }: { job: JobRow }) {
  const progress = job.progress;
  if (progress == null) {
    return null;
  }
  const share = progress.share == null ? undefined : Math.floor(progress.share * 100);
  const said = [
    share !== undefined && `${share} %`,
    progress.left_secs != null && `${duration(progress.left_secs)} left`,
    progress.text !== "" && progress.text,
  ].filter((part) => part !== false);
  return (
    <span className="block max-w-md">
      <progress
        className="progress progress-secondary block w-full"
        {...(share !== undefined && { value: share })}
        max={100}
        aria-label={said.join(", ")}
      />
      <span className="text-xs text-base-content/75">{said.join(", ")}</span>
    </span>
  );
}
