import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Check, X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import { answer, api, type ProposalView } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { Refusal } from "../parts/Faults";
import { Ago } from "../parts/Time";
import { pageOf } from "../parts/who";
import { Effects } from "./Effects";

/** Proposals that are drawn; beyond them they are accepted all at once, or by the command line. */
const DRAWN = 200;

/** What rules propose: each accepted or declined by itself, those that are selected, or all. */
export function Proposals({ all }: { all: ProposalView[] }) {
  const [asking, setAsking] = useState(false);
  const [selected, setSelected] = useState<ReadonlySet<string>>(new Set());
  const queries = useQueryClient();
  const chosen = all.filter(({ mac }) => selected.has(mac));
  const answered = async ({ which, accept }: { which: ProposalView[]; accept: boolean }) => {
    const body = { proposals: which.map(({ mac, digest }) => ({ who: mac, digest })) };
    if (accept) {
      return answer(await api.POST("/api/v1/proposals/accept", { body }));
    }
    answer(await api.POST("/api/v1/proposals/decline", { body }));
    return [];
  };
  const act = useMutation({
    mutationFn: answered,
    onSuccess: () => {
      setSelected(new Set());
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const toggle = (mac: string) => {
    const next = new Set(selected);
    if (!next.delete(mac)) {
      next.add(mac);
    }
    setSelected(next);
  };
  const which = chosen.length > 0 ? chosen : all;
  const possible = which.filter((one) => !one.lacks_name && one.effects.some(({ obstacle }) => obstacle == null));
  const count = (some: ProposalView[]) => (some.length === 1 ? "1 proposal" : `${some.length} proposals`);
  const armed = possible.filter(({ effects }) => effects.some(({ what, obstacle }) => what === "install" && obstacle == null));
  const refused = (act.data ?? []).filter((run) => run.refused.length > 0);
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <button type="button" className="btn btn-primary btn-sm" disabled={act.isPending || possible.length === 0} onClick={() => {
            if (armed.length > 0) {
              setAsking(true);
            } else {
              act.mutate({ which: possible, accept: true });
            }
          }}>
          <Check className="size-4" aria-hidden /> Accept {count(possible)}
        </button>
        <button type="button" className="btn btn-sm" disabled={act.isPending} onClick={() => { act.mutate({ which, accept: false }); }}>
          <X className="size-4" aria-hidden /> Decline {count(which)}
        </button>
        <span className="text-base-content/75">
          {chosen.length > 0 ? `${chosen.length} selected` : "Select some, or accept all."}
        </span>
      </div>
      {asking && (
        <Confirm
          title={`Accept ${count(possible)}?`}
          text={`An install is armed on ${armed.length === 1 ? armed[0]?.who : `${armed.length} machines`}. What is on their disks is lost.`}
          action="Accept"
          act={() => act.mutateAsync({ which: possible, accept: true })}
          close={() => { setAsking(false); }}
        />
      )}
      <Refusal error={act.error} title="Nothing was changed." />
      {refused.map(({ who, refused: why }) => (
        <p key={who} role="alert" className="mb-1 border-l-4 border-error pl-3">
          {who}: {why.join("; ")}
        </p>
      ))}
      <ul aria-label="Proposals">
        {all.slice(0, DRAWN).map((one) => (
          <li key={one.mac} className="flex items-start gap-3 border-b border-base-200 py-1.5 hover:bg-base-200">
            <input
              type="checkbox"
              className="checkbox checkbox-xs mt-1 ml-1"
              aria-label={`Select ${one.who}`}
              checked={selected.has(one.mac)}
              onChange={() => { toggle(one.mac); }}
            />
            <div className="min-w-0 flex-1">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <Link
                  className={`link-hover font-medium ${one.is_registered ? "" : "font-mono text-xs"}`}
                  to={pageOf(one.who)}
                >
                  {one.who}
                </Link>
                <span className="text-base-content/75">{one.summary}</span>
              </div>
              <Effects effects={one.effects} />
              {one.lacks_name && (
                <p className="text-base-content/75">
                  No rule gives it a name: <Link className="link" to="/newcomers">adopt it</Link> first.
                </p>
              )}
            </div>
            <span className="hidden pr-2 text-base-content/75 sm:block">
              <Ago at={one.since} />
            </span>
          </li>
        ))}
      </ul>
      {all.length > DRAWN && <p className="py-1.5 text-base-content/75">{all.length - DRAWN} more are not shown.</p>}
    </>
  );
}
