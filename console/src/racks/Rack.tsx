import { Link } from "react-router";

import type { RackOccupant, RackUnitView, RackView } from "../api/client";

/** Height of one unit, in rem. */
const UNIT = 1.35;

/** A run of units: what is known to be there, or nothing. */
interface Slot {
  from: number;
  to: number;
  unit: RackUnitView | undefined;
}

/** A rack from the top down: units of which nothing is known are one run. */
function slots(rack: RackView): Slot[] {
  const known = rack.units.filter((unit) => unit.to != null);
  const all: Slot[] = [];
  let above = rack.height + 1;
  for (const unit of known) {
    const [from, to] = [unit.from ?? 0, unit.to ?? 0];
    if (to + 1 < above) {
      all.push({ from: to + 1, to: above - 1, unit: undefined });
    }
    // Two that are said to be in the same units are drawn one below the other.
    all.push({ from, to, unit });
    above = Math.min(above, from);
  }
  if (above > 1) {
    all.push({ from: 1, to: above - 1, unit: undefined });
  }
  return all;
}

const EDGES: Record<string, string> = {
  failed: "border-error",
  stalled: "border-error",
  installing: "border-accent",
  booting: "border-accent",
  armed: "border-accent border-dashed",
  installed: "border-success",
  idle: "border-base-content/40",
};

/** A rack as one stands before it. */
export function Rack({ rack }: { rack: RackView }) {
  const unplaced = rack.units.filter((unit) => unit.to == null);
  return (
    <section className="w-full sm:w-[22rem]" aria-label={`Rack ${rack.rack}`}>
      <h2 className="mb-1 flex items-baseline gap-2">
        <span className="font-semibold">{rack.rack}</span>
        <span className="text-base-content/75">{[rack.hall, rack.row && `row ${rack.row}`].filter(Boolean).join(", ")}</span>
      </h2>
      <ol className="border-2 border-base-300 bg-base-200" aria-label={`Units of rack ${rack.rack}, from the top`}>
        {slots(rack).map((slot) => (
          <SlotRow key={`${slot.to}-${slot.from}`} slot={slot} />
        ))}
      </ol>
      {unplaced.map((unit) => (
        <p key="unplaced" className="mt-1 text-base-content/75">
          In this rack, nobody said where:{" "}
          {unit.occupants.map((occupant) => (
            <span key={occupant.who} className="mr-2">
              <Who occupant={occupant} />
            </span>
          ))}
        </p>
      ))}
    </section>
  );
}

function SlotRow({ slot }: { slot: Slot }) {
  const { from, to, unit } = slot;
  const numbers = from === to ? String(from) : `${from}–${to}`;
  // A long run of nothing takes no more room than it needs to be seen.
  const height = UNIT * (unit ? to - from + 1 : Math.min(to - from + 1, 2));
  const isDoubled = (unit?.occupants.length ?? 0) > 1;
  return (
    <li className="flex border-b border-base-300 last:border-b-0" style={{ minHeight: `${height}rem` }}>
      <span className="w-12 shrink-0 border-r border-base-300 px-1 pt-0.5 text-right text-xs text-base-content/70">{numbers}</span>
      {unit ? (
        <div className="flex min-w-0 flex-1 flex-col gap-px bg-base-100">
          {unit.occupants.length === 0 ? (
            <span className="flex min-w-0 flex-1 items-center gap-2 border-l-4 border-dotted border-base-300 pr-1 pl-2 text-base-content/70">
              empty <span className="ml-auto truncate text-xs">{unit.ports.join(", ")}</span>
            </span>
          ) : (
            unit.occupants.map((occupant) => <Occupant key={occupant.who} occupant={occupant} isDoubled={isDoubled} ports={unit.ports} />)
          )}
        </div>
      ) : (
        <span className="flex-1"><span className="sr-only">nothing known</span></span>
      )}
    </li>
  );
}

function Who({ occupant }: { occupant: RackOccupant }) {
  const path = occupant.stage == null ? `/facts/${encodeURIComponent(occupant.who)}` : `/machines/${occupant.who}`;
  return (
    <Link className={`link-hover truncate font-medium ${occupant.stage == null ? "font-mono text-xs" : ""}`} to={path}>
      {occupant.who}
    </Link>
  );
}

function Occupant({ occupant, isDoubled, ports }: { occupant: RackOccupant; isDoubled: boolean; ports: string[] }) {
  const state = occupant.is_expected ? "expected" : (occupant.stage ?? "newcomer");
  const edge = isDoubled
    ? "border-error"
    : occupant.is_expected
      ? "border-base-content/40 border-dotted"
      : occupant.stage == null
        ? "border-accent border-dashed"
        : (EDGES[occupant.stage] ?? "border-base-300");
  return (
    <div
      className={`flex min-w-0 flex-1 items-center gap-2 border-l-4 py-0.5 pr-1 pl-2 ${edge}`}
      title={[occupant.summary, ...ports].filter(Boolean).join("\n")}
    >
      <Who occupant={occupant} />
      <span className="ml-auto shrink-0 text-xs text-base-content/75">{isDoubled ? "two in one place" : state}</span>
    </div>
  );
}
