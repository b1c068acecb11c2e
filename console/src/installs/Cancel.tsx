import { useMutation, useQueryClient } from "@tanstack/react-query";

import { answer, api } from "../api/client";
import { Refusal } from "../parts/Faults";

/** Cancels an install. What the installer has done already is not undone, so it is confirmed first. */
export function Cancel({ number }: { number: number }) {
  const queries = useQueryClient();
  const cancel = useMutation({
    mutationFn: async () =>
      answer(await api.POST("/api/v1/installs/{number}/cancel", { params: { path: { number } } })),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <>
      <details className="dropdown">
        <summary className="btn btn-sm">Cancel</summary>
        <div className="dropdown-content z-10 mt-1 w-72 border border-base-300 bg-base-100 p-3 shadow">
          <p className="mb-2">
            The machine starts from its disk next time. What the installer has done stays done.
          </p>
          <button
            type="button"
            className="btn btn-sm btn-error"
            disabled={cancel.isPending}
            onClick={() => {
              cancel.mutate();
            }}
          >
            Cancel install {number}
          </button>
        </div>
      </details>
      <Refusal error={cancel.error} title="It was not cancelled." />
    </>
  );
}
