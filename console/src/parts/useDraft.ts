import { useState } from "react";

import { basedOn, type Edited } from "../api/client";

const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);

/**
 * What somebody enters, begun from what is saved. While nothing was entered it follows what others save; after that it stays
 * based on the form that it was begun from, and the service refuses to save it over a later one.
 */
export function useDraft<S extends object, D>(saved: Edited<S> | undefined, toDraft: (saved: S | undefined) => D) {
  const [base, setBase] = useState(saved);
  const [draft, setDraft] = useState(() => toDraft(saved));
  const isChanged = !same(draft, toDraft(base));
  const take = (next: Edited<S>) => {
    setBase(next);
    setDraft(toDraft(next));
  };
  if (saved !== undefined && saved.etag !== base?.etag && !isChanged) {
    take(saved);
  }
  return {
    draft,
    setDraft,
    /** Whether anything was entered. */
    isChanged,
    /** What is sent with a change, so that nobody else's is lost; with an ETag, as a change of the form that has it. */
    headers: (overwrites?: string) => basedOn(overwrites ?? base?.etag),
    /** Goes on from what is saved now, and forgets what was entered. */
    take,
    /** Takes what was entered as a change of the form with that ETag. */
    rebase: (etag: string) => {
      setBase((before) => (before === undefined ? before : { ...before, etag }));
    },
  };
}
