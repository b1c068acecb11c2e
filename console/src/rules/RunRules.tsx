import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { answer, api, type RuleRun, TRYING } from "../api/client";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { Answered } from "../parts/States";
import { Effects } from "./Effects";

/** Machines that are drawn. */
const DRAWN = 50;
const BODY = { who: [], all: true, arm_again: false };

/** Runs all rules by what was measured last: what that would do is shown first. */
export function RunRules({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const tried = useQuery({
    queryKey: ["rules", "run"],
    gcTime: 0,
    meta: { onDemand: true },
    queryFn: async () => answer(await api.POST("/api/v1/rules/run", { body: BODY, ...TRYING })),
  });
  const run = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/rules/run", { body: BODY })),
    onSuccess: close,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Dialog title="Run all rules" close={close}>
      <Answered query={tried} rows={3}>{(rows) => <Shown rows={rows} />}</Answered>
      <Refusal error={run.error} title="The rules were not run to their end." />
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={close}>
          Cancel
        </button>
        <button type="button" className="btn btn-primary btn-sm" disabled={!tried.data || run.isPending} onClick={() => { run.mutate(); }}>
          Run
        </button>
      </div>
    </Dialog>
  );
}

const machines = (count: number) => (count === 1 ? "1 machine" : `${count} machines`);

function Shown({ rows }: { rows: RuleRun[] }) {
  const changed = rows.filter(({ effects }) => effects.length > 0);
  const armed = changed.filter(({ effects }) => effects.some(({ what }) => what === "install"));
  const proposed = rows.filter((row) => row.proposed.length > 0);
  return (
    <>
      <p className="mb-2">
        Of {machines(rows.length)} that were surveyed, {changed.length || "none"} would be changed; for {proposed.length} something is proposed.
      </p>
      {armed.length > 0 && (
        <p className="mb-2 border-l-4 border-error pl-3">An install is armed on {machines(armed.length)}. What is on their disks is lost.</p>
      )}
      <ul className="max-h-72 overflow-auto" aria-label="What would be changed">
        {changed.slice(0, DRAWN).map(({ who, effects }) => (
          <li key={who} className="border-b border-base-200 py-1">
            <span className="font-medium">{who}</span>
            <Effects effects={effects} />
          </li>
        ))}
      </ul>
      {changed.length > DRAWN && <p className="text-base-content/75">And {changed.length - DRAWN} more.</p>}
    </>
  );
}
