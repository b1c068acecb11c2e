import { Anchor, CircleAlert } from "lucide-react";
import type { ReactNode } from "react";

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

/** A call that did not work, in the service's own words. */
export function Failed({ error, again }: { error: Error; again: () => void }) {
  return (
    <div role="alert" className="flex items-center gap-3 border-l-4 border-error bg-base-200 p-3">
      <CircleAlert className="size-5 shrink-0 text-error" aria-hidden />
      <p className="flex-1">{error.message}</p>
      <button type="button" className="btn btn-sm" onClick={again}>
        Try again
      </button>
    </div>
  );
}

/** Rows to come, in the shape they will have. */
export function Loading({ rows = 8 }: { rows?: number }) {
  return (
    <div role="status" aria-label="Loading" className="space-y-2 py-2">
      {Array.from({ length: rows }, (_, row) => (
        <div key={row} className="skeleton h-8 w-full" />
      ))}
    </div>
  );
}
