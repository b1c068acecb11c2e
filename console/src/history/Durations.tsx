import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { Tally } from "../api/client";
import { duration } from "../parts/size";
import { BOX, TICK } from "./Days";

/** Groups that are drawn: those with most installs. */
const DRAWN = 8;
const ROW = 32;
const AXIS = 34;

const axis = (secs: number) => (secs === 0 ? "0" : duration(secs));

interface Span {
  group: string;
  /** From the shortest to the longest. */
  range: [number, number];
  median: number;
  ninth: number;
}

function spans(groups: Tally[]): Span[] {
  const known = groups.flatMap(({ group, armed, shortest_secs, median_secs, ninth_decile_secs, longest_secs }) =>
    shortest_secs == null || median_secs == null || ninth_decile_secs == null || longest_secs == null
      ? []
      : [{ group, armed, range: [shortest_secs, longest_secs] as [number, number], median: median_secs, ninth: ninth_decile_secs }],
  );
  return known.toSorted((one, other) => other.armed - one.armed).slice(0, DRAWN);
}

/** How long installs took, group by group: from the shortest to the longest, nine of ten within the thick part, the median marked. */
export function Durations({ groups }: { groups: Tally[] }) {
  const drawn = spans(groups);
  if (drawn.length === 0) {
    return null;
  }
  return (
    <figure className="min-w-0" aria-label="How long installs took">
      <figcaption className="mb-1 text-xs text-base-content/75">
        duration, shortest to longest: nine of ten in the thick part, the line is the median
      </figcaption>
      <ResponsiveContainer width="100%" height={drawn.length * ROW + AXIS}>
        <BarChart data={drawn} layout="vertical" margin={{ top: 4, right: 12, bottom: 0, left: 0 }}>
          <CartesianGrid horizontal={false} stroke="var(--color-base-300)" />
          <XAxis type="number" domain={[0, "dataMax"]} tickFormatter={axis} tick={TICK} stroke="var(--color-base-300)" />
          <YAxis type="category" dataKey="group" width={112} tick={TICK} stroke="var(--color-base-300)" />
          <Tooltip cursor={{ fill: "var(--color-base-200)" }} content={({ active, payload }) => <Said span={active ? (payload[0]?.payload as Span) : undefined} />} />
          <Bar dataKey="range" shape={<Whisker />} isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
    </figure>
  );
}

/** What the chart gives a shape that it draws. */
interface Drawn {
  x?: number;
  y?: number;
  width?: number;
  height?: number;
  payload?: Span;
}

function Whisker({ x = 0, y = 0, width = 0, height = 0, payload }: Drawn) {
  if (!payload) {
    return null;
  }
  const [shortest, longest] = payload.range;
  const at = (secs: number) => (longest > shortest ? x + (width * (secs - shortest)) / (longest - shortest) : x);
  const middle = y + height / 2;
  const thick = Math.min(height, 12);
  return (
    <g>
      <line x1={x} x2={x + Math.max(width, 1)} y1={middle} y2={middle} stroke="var(--color-secondary)" strokeWidth={2} />
      <rect x={x} y={middle - thick / 2} width={Math.max(at(payload.ninth) - x, 2)} height={thick} fill="var(--color-secondary)" opacity={0.45} />
      <line x1={at(payload.median)} x2={at(payload.median)} y1={middle - thick} y2={middle + thick} stroke="var(--color-base-content)" strokeWidth={2} />
    </g>
  );
}

function Said({ span }: { span: Span | undefined }) {
  if (!span) {
    return null;
  }
  return (
    <div className="p-2" style={BOX}>
      <p className="font-medium">{span.group}</p>
      <p>
        {duration(span.range[0])} to {duration(span.range[1])}, median {duration(span.median)}, nine of ten within {duration(span.ninth)}
      </p>
    </div>
  );
}
