import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { Day } from "../api/client";
import { BOX, TICK } from "./Days";

/** Weeks that are drawn: the latest. */
const DRAWN = 12;
const HEIGHT = 180;
const DAY_MS = 86_400_000;

interface Week {
  /** Its Monday. */
  week: string;
  installed: number;
  ended: number;
  rate: number;
}

/** Success by week: installed, of those that were installed, failed or stalled. Whoever cancels says nothing of success. */
export function weeks(days: Day[]): Week[] {
  const all = new Map<string, { installed: number; ended: number }>();
  for (const { day, installed, failed, stalled } of days) {
    const at = Date.parse(day);
    const monday = new Date(at - ((new Date(at).getUTCDay() + 6) % 7) * DAY_MS).toISOString().slice(0, 10);
    const so_far = all.get(monday) ?? { installed: 0, ended: 0 };
    all.set(monday, { installed: so_far.installed + installed, ended: so_far.ended + installed + failed + stalled });
  }
  return [...all]
    .filter(([, { ended }]) => ended > 0)
    .map(([week, { installed, ended }]) => ({ week, installed, ended, rate: (100 * installed) / ended }))
    .slice(-DRAWN);
}

/** The share of installs that succeeded, week by week. */
export function Weeks({ days }: { days: Day[] }) {
  const drawn = weeks(days);
  if (drawn.length === 0) {
    return null;
  }
  return (
    <figure className="min-w-0" aria-label="Success rate, week by week">
      <figcaption className="mb-1 text-xs text-base-content/75">success rate by week (its Monday)</figcaption>
      <ResponsiveContainer width="100%" height={HEIGHT}>
        <BarChart data={drawn} margin={{ top: 4, right: 4, bottom: 0, left: 0 }} maxBarSize={28}>
          <CartesianGrid vertical={false} stroke="var(--color-base-300)" />
          <XAxis dataKey="week" tickFormatter={(week: string) => week.slice(5)} tick={TICK} stroke="var(--color-base-300)" />
          <YAxis domain={[0, 100]} unit=" %" width={48} tick={TICK} stroke="var(--color-base-300)" />
          <Tooltip
            cursor={{ fill: "var(--color-base-200)" }}
            content={({ active, payload }) => {
              const week = active ? (payload[0]?.payload as Week | undefined) : undefined;
              return (
                week && (
                  <p className="p-2" style={BOX}>
                    week of {week.week}: {week.installed} of {week.ended} succeeded, {week.rate.toFixed(1)} %
                  </p>
                )
              );
            }}
          />
          <Bar dataKey="rate" fill="var(--color-success)" isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
    </figure>
  );
}
