import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";

import { answer, api } from "../api/client";
import { Refusal } from "../parts/Faults";

/** Arms what an ended install was to do once more, and leads to the new one. */
export function Retry({ number }: { number: number }) {
  const queries = useQueryClient();
  const go = useNavigate();
  const retry = useMutation({
    mutationFn: async () =>
      answer(await api.POST("/api/v1/installs/{number}/retry", { params: { path: { number } } })),
    onSuccess: (install) => go(`/installs/${install.number}`),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <>
      <button
        type="button"
        className="btn btn-sm"
        disabled={retry.isPending}
        onClick={() => {
          retry.mutate();
        }}
      >
        Arm it again
      </button>
      <Refusal error={retry.error} title="It was not armed." />
    </>
  );
}
