import { useNavigate } from "react-router";
import { CartesianGrid, ResponsiveContainer, Scatter, ScatterChart, Tooltip, XAxis, YAxis } from "recharts";

import type { InstallRow } from "../api/client";
import { duration } from "../parts/size";
import { BOX, TICK } from "./Days";

const ROW = 44;
const AXIS = 34;
/** Images that are drawn: those installed most. */
const DRAWN = 6;
/** An install is an outlier if it took so many times the median of its image. */
const OUTLIER = 1.5;

interface Dot {
  number: number;
  machine: string;
  image: string;
  secs: number;
  outlier: boolean;
}

const median = (sorted: number[]) => sorted[Math.floor(sorted.length / 2)] ?? 0;

/** How long each install took, by image; null where none has ended. */
export function dots(installs: InstallRow[]): Dot[] {
  const byImage = new Map<string, Dot[]>();
  for (const { number, machine, image, state, booting_at, ended_at } of installs) {
    if (state === "installed" && booting_at != null && ended_at != null) {
      const secs = Math.max(0, (Date.parse(ended_at) - Date.parse(booting_at)) / 1000);
      byImage.set(image, [...(byImage.get(image) ?? []), { number, machine, image, secs, outlier: false }]);
    }
  }
  const most = [...byImage.values()].toSorted((one, other) => other.length - one.length).slice(0, DRAWN);
  return most.flatMap((all) => {
    const usual = median(all.map(({ secs }) => secs).toSorted((one, other) => one - other));
    return all.map((dot) => ({ ...dot, outlier: dot.secs > usual * OUTLIER }));
  });
}

/** The duration of each install, a dot each, by image. A dot leads to its install; outliers stand out and are listed. */
export function Outliers({ installs }: { installs: InstallRow[] }) {
  const all = dots(installs);
  const go = useNavigate();
  const images = new Set(all.map(({ image }) => image)).size;
  if (all.length === 0) {
    return null;
  }
  const open = (dot: unknown) => {
    const { payload } = dot as { payload?: Dot };
    if (payload) {
      void go(`/installs/${payload.number}`);
    }
  };
  const slow = all.filter(({ outlier }) => outlier).toSorted((one, other) => other.secs - one.secs);
  return (
    <figure className="min-w-0" aria-label="Duration of each install, by image">
      <figcaption className="mb-1 text-xs text-base-content/75">duration of each install, by image; click a dot to open its install</figcaption>
      <ResponsiveContainer width="100%" height={images * ROW + AXIS}>
        <ScatterChart margin={{ top: 4, right: 12, bottom: 0, left: 0 }}>
          <CartesianGrid horizontal={false} stroke="var(--color-base-300)" />
          <XAxis type="number" dataKey="secs" domain={[0, "dataMax"]} tickFormatter={(secs: number) => (secs === 0 ? "0" : duration(secs))} tick={TICK} stroke="var(--color-base-300)" />
          <YAxis type="category" dataKey="image" width={112} allowDuplicatedCategory={false} tick={TICK} stroke="var(--color-base-300)" />
          <Tooltip
            cursor={false}
            content={({ active, payload }) => {
              const dot = active ? (payload[0]?.payload as Dot | undefined) : undefined;
              return (
                dot && (
                  <p className="p-2" style={BOX}>
                    install {dot.number} of {dot.machine}: {duration(dot.secs)}
                  </p>
                )
              );
            }}
          />
          <Scatter data={all.filter(({ outlier }) => !outlier)} fill="var(--color-secondary)" fillOpacity={0.6} onClick={open} isAnimationActive={false} />
          <Scatter data={slow} fill="var(--color-error)" shape="diamond" onClick={open} isAnimationActive={false} />
        </ScatterChart>
      </ResponsiveContainer>
      {slow.length > 0 && (
        <p className="text-xs">
          More than {OUTLIER} times the median of their image:{" "}
          {slow.slice(0, 5).map(({ number, machine, secs }) => (
            <a key={number} className="link mr-2" href={`/installs/${number}`}>
              {number} of {machine}, {duration(secs)}
            </a>
          ))}
        </p>
      )}
    </figure>
  );
}
