import type { InstallState, Step } from "../api/client";

/** The stops of every install, in order, and the steps that reach them. */
const STOPS: { name: string; steps: Step[] }[] = [
  { name: "address", steps: ["lease"] },
  { name: "loader", steps: ["loader"] },
  { name: "menu", steps: ["menu"] },
  { name: "kernel", steps: ["kernel", "initrd"] },
  { name: "answers", steps: ["answers"] },
  { name: "installing", steps: ["started"] },
  { name: "installed", steps: ["done", "booted"] },
];

const GAP = 26;
const EDGE = 8;
const HEIGHT = 20;
const WIDTH = EDGE * 2 + GAP * (STOPS.length - 1);

type RouteState = InstallState | "idle";

/** How far along its stops a machine is. The installer asks for an address once more, when it is past the kernel. */
function reached(step: Step | null | undefined, state: RouteState): number {
  if (state === "installed") {
    return STOPS.length - 1;
  }
  if (state === "installing" && step === "lease") {
    return 4;
  }
  return STOPS.findIndex((stop) => step != null && stop.steps.includes(step));
}

/** The way of an install as a line of stops: passed ones filled, the present one under way, the rest hollow. */
export function Route({ step, state }: { step: Step | null | undefined; state: RouteState }) {
  const at = reached(step, state);
  const open = state === "armed" || state === "booting" || state === "installing";
  const stopped = state === "failed" || state === "stalled";
  const tone = stopped ? "text-error" : open ? "text-accent" : state === "installed" ? "text-success" : "text-neutral";
  const here = STOPS[at]?.name ?? "not begun";
  return (
    <svg
      role="img"
      aria-label={`${state}: ${here}`}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      width={WIDTH}
      height={HEIGHT}
      className={`max-w-full shrink-0 ${tone}`}
    >
      <title>{`${state}: ${here}`}</title>
      <line x1={EDGE} x2={WIDTH - EDGE} y1={HEIGHT / 2} y2={HEIGHT / 2} className="stroke-base-300" strokeWidth="2" />
      {at > 0 && (
        <line
          x1={EDGE}
          x2={EDGE + GAP * at}
          y1={HEIGHT / 2}
          y2={HEIGHT / 2}
          stroke="currentColor"
          strokeWidth="2"
        />
      )}
      {STOPS.map((stop, index) => (
        <Stop key={stop.name} index={index} at={at} open={open} />
      ))}
    </svg>
  );
}

function Stop({ index, at, open }: { index: number; at: number; open: boolean }) {
  const x = EDGE + GAP * index;
  const y = HEIGHT / 2;
  const present = index === at;
  const half = present ? 6 : 4;
  const passed = index <= at;
  return (
    <path
      d={`M${x} ${y - half}L${x + half} ${y}L${x} ${y + half}L${x - half} ${y}z`}
      fill={passed ? "currentColor" : "var(--color-base-100)"}
      stroke={passed ? "currentColor" : "var(--color-base-300)"}
      strokeWidth="1.5"
      className={present && open ? "under-way" : undefined}
    />
  );
}
