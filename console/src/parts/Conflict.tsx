import { useEffect, useRef } from "react";

import { conflictOf } from "../api/client";

/** A value that came as JSON, as a person writes it: texts without quotes, lists a line each. */
function written(json: string | null | undefined): string {
  if (json == null) {
    return "–";
  }
  const value: unknown = JSON.parse(json);
  const lines = Array.isArray(value) ? (value as unknown[]) : [value];
  return lines.map((line) => (typeof line === "string" ? line : JSON.stringify(line))).join("\n");
}

/** What was to be saved: why it was not, and how it is saved over the form that has that ETag. */
export interface Save {
  error: Error | null;
  reset: () => void;
  mutate: (etag: string) => void;
}

/** What somebody else has saved meanwhile, beside what one has entered, and what can be done about it. */
export function Conflict({ save, theirs }: { save: Save; theirs: () => void }) {
  const problem = conflictOf(save.error);
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    // It comes below long forms: whoever has just saved must see it.
    place.current?.scrollIntoView({ block: "center" });
  }, [problem]);
  if (problem === undefined) {
    return null;
  }
  const { differences = [], etag } = problem;
  return (
    <div ref={place} role="alert" className="mb-4 max-w-4xl border-l-4 border-accent pl-3">
      <p className="font-semibold">It was changed by somebody else while you edited it. Nothing was saved.</p>
      {differences.length > 0 && (
        <table className="table table-xs my-2 w-auto">
          <thead>
            <tr>
              <th scope="col">Setting</th>
              <th scope="col">Saved now</th>
              <th scope="col">Yours</th>
            </tr>
          </thead>
          <tbody>
            {differences.map((difference) => (
              <tr key={difference.place} className="align-top">
                <th scope="row" className="font-mono font-normal">
                  {difference.place}
                </th>
                <td className="font-mono break-all whitespace-pre-wrap">{written(difference.saved)}</td>
                <td className="font-mono break-all whitespace-pre-wrap">{written(difference.yours)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-xs"
          onClick={() => {
            theirs();
            save.reset();
          }}
        >
          Take what is saved
        </button>
        {etag != null && (
          <button
            type="button"
            className="btn btn-xs"
            onClick={() => {
              save.mutate(etag);
            }}
          >
            Save mine over it
          </button>
        )}
      </div>
    </div>
  );
}
