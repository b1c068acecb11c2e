import type { InstallState, JobState, Stage } from "../api/client";

const TONES: Record<Stage | InstallState | JobState, string> = {
  failed: "border-error text-error font-semibold",
  stalled: "border-error text-error font-semibold",
  installing: "border-accent",
  booting: "border-accent",
  armed: "border-accent border-dashed",
  idle: "border-base-300 text-base-content/70",
  running: "border-accent",
  done: "border-success",
  installed: "border-success",
  cancelled: "border-base-300 text-base-content/70",
};

/** A stage or state in a word, with the edge that says what kind it is. */
export function StateMark({ state }: { state: Stage | InstallState | JobState }) {
  return <span className={`inline-block border-l-4 pl-2 ${TONES[state]}`}>{state}</span>;
}
