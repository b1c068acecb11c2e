import type { Day } from "../api/client";

/** Days that are drawn: the latest. */
const DRAWN = 60;
const HEIGHT = 96;
const BAR = 12;
const GAP = 4;
/** Room for the scale and for the days' names. */
const LEFT = 32;
const BELOW = 18;

const PARTS: { of: (day: Day) => number; name: string; fill: string }[] = [
  { of: (day) => day.installed, name: "installed", fill: "fill-success" },
  { of: (day) => day.failed, name: "failed", fill: "fill-error" },
  { of: (day) => day.stalled, name: "stalled", fill: "fill-accent" },
  { of: (day) => day.cancelled, name: "called off", fill: "fill-base-300" },
];

const total = (day: Day) => PARTS.reduce((sum, part) => sum + part.of(day), 0);

/** Installs by the day on which they ended, one bar a day, without gaps for days on which none did. */
export function Days({ days }: { days: Day[] }) {
  const drawn = days.slice(-DRAWN);
  if (drawn.length === 0) {
    return null;
  }
  const most = Math.max(1, ...drawn.map(total));
  const width = LEFT + drawn.length * (BAR + GAP);
  const scale = (count: number) => (count / most) * HEIGHT;
  // So many days between two names that they do not touch.
  const every = Math.ceil(40 / (BAR + GAP));
  return (
    <figure className="mb-4 max-w-5xl overflow-x-auto">
      <svg width={Math.max(width, 240)} height={HEIGHT + BELOW + 8} role="img" aria-label="Installs that ended, day by day">
        <g transform="translate(0 8)">
          <line x1={LEFT} x2={width} y1={HEIGHT} y2={HEIGHT} className="stroke-base-300" />
          <text x={LEFT - 6} y={4} textAnchor="end" dominantBaseline="middle" className="fill-current text-[11px]">
            {most}
          </text>
          <text x={LEFT - 6} y={HEIGHT} textAnchor="end" dominantBaseline="middle" className="fill-current text-[11px]">
            0
          </text>
          {drawn.map((day, place) => (
            <Bar key={day.day} day={day} x={LEFT + place * (BAR + GAP)} scale={scale} named={place % every === 0} />
          ))}
        </g>
      </svg>
      <figcaption className="flex flex-wrap gap-x-4 text-xs text-base-content/75">
        {PARTS.map(({ name, fill }) => (
          <span key={name} className="inline-flex items-center gap-1">
            <svg width={10} height={10} aria-hidden>
              <rect width={10} height={10} className={fill} />
            </svg>
            {name}
          </span>
        ))}
      </figcaption>
    </figure>
  );
}

function Bar(props: { day: Day; x: number; scale: (count: number) => number; named: boolean }) {
  const { day, x, scale, named } = props;
  const said = PARTS.filter(({ of }) => of(day) > 0).map(({ of, name }) => `${of(day)} ${name}`);
  const heights = PARTS.map(({ of }) => scale(of(day)));
  return (
    <g>
      <title>{`${day.day}: ${said.join(", ")}`}</title>
      {PARTS.map(({ name, fill }, index) => {
        const below = heights.slice(0, index).reduce((sum, height) => sum + height, 0);
        const height = heights[index] ?? 0;
        return <rect key={name} x={x} y={HEIGHT - below - height} width={BAR} height={height} className={fill} />;
      })}
      {named && (
        <text x={x} y={HEIGHT + 14} className="fill-current text-[11px]">
          {day.day.slice(5)}
        </text>
      )}
    </g>
  );
}
