import type { RevisionRow } from "../api/client";

/** Whether a revision can be served, and if not, what it lacks. */
export function Ready({ revision }: { revision: RevisionRow }) {
  if (revision.retired != null) {
    return <span className="text-base-content/70">retired</span>;
  }
  if (revision.lacking.length > 0) {
    return <span className="border-l-4 border-error pl-2 text-error">no: {revision.lacking.join("; ")}</span>;
  }
  return (
    <span className="border-l-4 border-success pl-2">yes{revision.verified == null && ", being read"}</span>
  );
}
