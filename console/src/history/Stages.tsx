import { Area, AreaChart, CartesianGrid, Legend, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { InstallRow } from "../api/client";
import { clock } from "../parts/time";
import { BOX, TICK } from "./Days";

/** Moments that are drawn. */
const MOMENTS = 80;
const HEIGHT = 180;

const PARTS = [
  { key: "installed", name: "installed", fill: "var(--color-success)" },
  { key: "progress", name: "in progress", fill: "var(--color-secondary)" },
  { key: "armed", name: "armed", fill: "var(--color-accent)" },
  { key: "attention", name: "failed or stalled", fill: "var(--color-error)" },
] as const;

type Counts = Record<(typeof PARTS)[number]["key"], number>;

/** The stage of an install at a moment; nothing before it was armed, and once it is cancelled. */
function stage(install: InstallRow, at: number): keyof Counts | undefined {
  const passed = (time: string | null | undefined) => time != null && Date.parse(time) <= at;
  if (!passed(install.armed_at)) {
    return undefined;
  }
  if (passed(install.ended_at)) {
    return install.state === "installed" ? "installed" : install.state === "cancelled" ? undefined : "attention";
  }
  return passed(install.booting_at) ? "progress" : "armed";
}

/** How many machines were at which stage, from the first install that is known to now: each by its latest install then. */
export function moments(installs: InstallRow[], now: number): (Counts & { at: string })[] {
  const oldest = installs.toSorted((one, other) => one.number - other.number);
  const first = oldest[0] && Date.parse(oldest[0].armed_at);
  if (first === undefined || now <= first) {
    return [];
  }
  return Array.from({ length: MOMENTS }, (_, index) => {
    const at = first + ((now - first) * index) / (MOMENTS - 1);
    const of = new Map<string, keyof Counts>();
    for (const install of oldest) {
      const its = stage(install, at);
      if (its) {
        of.set(install.machine, its);
      }
    }
    const counts: Counts = { installed: 0, progress: 0, armed: 0, attention: 0 };
    for (const its of of.values()) {
      counts[its] += 1;
    }
    return { ...counts, at: new Date(at).toISOString() };
  });
}

/** Machines by stage, over time. */
export function Stages({ installs, now }: { installs: InstallRow[]; now: number }) {
  const drawn = moments(installs, now);
  if (drawn.length === 0) {
    return null;
  }
  return (
    <figure className="min-w-0" aria-label="Machines by stage, over time">
      <figcaption className="mb-1 text-xs text-base-content/75">machines by stage, over time</figcaption>
      <ResponsiveContainer width="100%" height={HEIGHT}>
        <AreaChart data={drawn} margin={{ top: 4, right: 4, bottom: 0, left: 0 }}>
          <CartesianGrid vertical={false} stroke="var(--color-base-300)" />
          <XAxis dataKey="at" tickFormatter={clock} tick={TICK} stroke="var(--color-base-300)" minTickGap={48} />
          <YAxis allowDecimals={false} width={32} tick={TICK} stroke="var(--color-base-300)" />
          <Tooltip contentStyle={BOX} labelFormatter={(at) => clock(at as string)} />
          <Legend iconType="square" iconSize={10} wrapperStyle={{ fontSize: 12 }} itemSorter={null} formatter={(name) => <span className="text-base-content/75">{name}</span>} />
          {PARTS.map(({ key, name, fill }) => (
            <Area key={key} type="stepAfter" dataKey={key} name={name} stackId="stages" stroke="none" fill={fill} fillOpacity={0.8} isAnimationActive={false} />
          ))}
        </AreaChart>
      </ResponsiveContainer>
    </figure>
  );
}
