import { Anchor, CircleAlert } from "lucide-react";
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { faultsOf } from "../api/client";

/** Rows that a page waits with. */
const ROWS = 8;

/** Nothing to show, and what to do about it. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="grid flex-1 place-content-center gap-2 p-8 text-center">
      <Anchor className="mx-auto size-8 text-secondary" aria-hidden />
      <h2 className="text-base font-semibold">{title}</h2>
      <div className="max-w-md text-base-content/75">{children}</div>
    </div>
  );
}

/** A call that did not work, in the service's own words; nothing while it does. */
export function Failed({ query }: { query: Pick<UseQueryResult, "error" | "refetch"> }) {
  if (!query.error) {
    return null;
  }
  const faults = faultsOf(query.error);
  return (
    <div role="alert" className="mb-4 flex items-center gap-3 border-l-4 border-error bg-base-200 p-3">
      <CircleAlert className="size-5 shrink-0 text-error" aria-hidden />
      <div className="flex-1">
        {faults.length === 0 && <p>{query.error.message}</p>}
        {faults.map(({ place, what, fix }) => (
          <p key={place + what}>
            {what}. <span className="text-base-content/75">{fix}</span>
          </p>
        ))}
      </div>
      <button
        type="button"
        className="btn btn-sm"
        onClick={() => {
          void query.refetch();
        }}
      >
        Try again
      </button>
    </div>
  );
}

/** What a call gave: before it comes, rows in its place, and above it what went wrong when it was read last. */
export function Answered<T>(props: {
  query: UseQueryResult<T>;
  rows?: number;
  children: (data: T) => ReactNode;
}) {
  const { query, rows = ROWS, children } = props;
  return (
    <>
      <Failed query={query} />
      {query.isPending && <Loading rows={rows} />}
      {query.data !== undefined && children(query.data)}
    </>
  );
}

/** Rows to come, in the shape they will have. */
export function Loading({ rows = ROWS }: { rows?: number }) {
  return (
    <div role="status" aria-label="Loading" className="space-y-2 py-2">
      {Array.from({ length: rows }, (_, row) => (
        <div key={row} className="skeleton h-8 w-full" />
      ))}
    </div>
  );
}
