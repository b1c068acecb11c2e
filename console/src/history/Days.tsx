import { Bar, BarChart, CartesianGrid, Legend, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { Day } from "../api/client";

/** Days that are drawn: the latest. */
const DRAWN = 60;
const HEIGHT = 180;
const DAY_MS = 86_400_000;

const PARTS = [
  { key: "installed", name: "installed", fill: "var(--color-success)" },
  { key: "failed", name: "failed", fill: "var(--color-error)" },
  { key: "stalled", name: "stalled", fill: "var(--color-accent)" },
  { key: "cancelled", name: "cancelled", fill: "var(--color-base-300)" },
] as const;

/** The days from the first to the last, those on which nothing ended among them: a pause is seen as one. */
function withoutGaps(days: Day[]): Day[] {
  const last = days.at(-1);
  if (!last) {
    return [];
  }
  const known = new Map(days.map((day) => [day.day, day]));
  const end = Date.parse(last.day);
  const first = Math.max(Date.parse(days[0]?.day ?? last.day), end - (DRAWN - 1) * DAY_MS);
  const all: Day[] = [];
  for (let at = first; at <= end; at += DAY_MS) {
    const day = new Date(at).toISOString().slice(0, 10);
    all.push(known.get(day) ?? { day, installed: 0, failed: 0, stalled: 0, cancelled: 0 });
  }
  return all;
}

/** Installs by the day on which they ended. */
export function Days({ days }: { days: Day[] }) {
  const drawn = withoutGaps(days);
  return (
    <figure className="min-w-0" aria-label="Installs that ended, day by day">
      <figcaption className="mb-1 text-xs text-base-content/75">ended installs by day</figcaption>
      <ResponsiveContainer width="100%" height={HEIGHT}>
        <BarChart data={drawn} margin={{ top: 4, right: 4, bottom: 0, left: 0 }} maxBarSize={28}>
          <CartesianGrid vertical={false} stroke="var(--color-base-300)" />
          <XAxis dataKey="day" tickFormatter={(day: string) => day.slice(5)} tick={TICK} stroke="var(--color-base-300)" minTickGap={16} />
          <YAxis allowDecimals={false} width={32} tick={TICK} stroke="var(--color-base-300)" />
          <Tooltip cursor={{ fill: "var(--color-base-200)" }} contentStyle={BOX} />
          <Legend iconType="square" iconSize={10} wrapperStyle={{ fontSize: 12 }} itemSorter={null} formatter={(name) => <span className="text-base-content/75">{name}</span>} />
          {PARTS.map(({ key, name, fill }) => (
            <Bar key={key} dataKey={key} name={name} stackId="ends" fill={fill} isAnimationActive={false} />
          ))}
        </BarChart>
      </ResponsiveContainer>
    </figure>
  );
}

/** Letters of axes, and the box beside the pointer. */
export const TICK = { fontSize: 11, fill: "currentColor" };
export const BOX = { background: "var(--color-base-100)", border: "1px solid var(--color-base-300)", fontSize: 12 };
