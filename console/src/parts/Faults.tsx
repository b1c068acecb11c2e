import { conflictOf, type Fault, faultsOf } from "../api/client";
import { Prose } from "./Prose";

/** What is wrong, where, and what to do about it. */
export function Faults({ title, faults }: { title: string; faults: Fault[] }) {
  if (faults.length === 0) {
    return null;
  }
  return (
    <div role="alert" className="mb-4 max-w-4xl border-l-4 border-error pl-3">
      <p className="font-semibold">{title}</p>
      <ul>
        {faults.map((fault) => (
          <li key={fault.place + fault.what}>
            <code>{fault.place}</code>: {fault.what}. <Prose text={fault.fix} />
          </li>
        ))}
      </ul>
    </div>
  );
}

/**
 * Why a call did not do what it should: every fault of its input, or the service's own words; nothing while it did, and where
 * somebody else's change stands in the way (`Conflict` shows that).
 */
export function Refusal({ title = "Nothing was saved.", error }: { title?: string; error: Error | null }) {
  if (conflictOf(error) !== undefined) {
    return null;
  }
  const faults = faultsOf(error);
  if (!error || faults.length > 0) {
    return <Faults title={title} faults={faults} />;
  }
  return (
    <p role="alert" className="mb-2 border-l-4 border-error pl-2 text-error">
      {error.message}
    </p>
  );
}
