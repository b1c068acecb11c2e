import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { Link } from "react-router";

import { answer, api, type HandoverView } from "../api/client";
import { Refusal } from "../parts/Faults";
import { Section } from "../parts/Section";
import { Answered, Empty } from "../parts/States";
import { ago, useNow } from "../parts/time";
import { Deliveries } from "./Deliveries";
import { SaveHandover } from "./SaveHandover";

/** Where ends of installs are told, and whether it arrives. */
export function HandoversPage() {
  const handovers = useQuery({
    queryKey: ["handovers"],
    queryFn: async () => answer(await api.GET("/api/v1/handovers")),
  });
  const deliveries = useQuery({
    queryKey: ["deliveries"],
    queryFn: async () => answer(await api.GET("/api/v1/deliveries", { params: { query: { limit: 500 } } })),
  });
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/history" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> History
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Handovers</h1>
      <Section title="Who is told when an install ends">
        <Answered query={handovers} rows={2}>
          {(all) => (
            <>
              {all.length === 0 && <p className="mb-3 text-base-content/75">Nobody is told yet.</p>}
              <ul className="mb-4 max-w-4xl space-y-3">
                {all.map((handover) => (
                  <Handover key={handover.name} handover={handover} />
                ))}
              </ul>
            </>
          )}
        </Answered>
        <SaveHandover />
      </Section>
      <Section title="Deliveries">
        <Answered query={deliveries}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="Nothing was told yet">Each end of an install makes one for everybody who is told of it.</Empty>
            ) : (
              <Deliveries deliveries={all} />
            )
          }
        </Answered>
      </Section>
    </div>
  );
}

function Handover({ handover }: { handover: HandoverView }) {
  const queries = useQueryClient();
  const now = useNow();
  const path = { params: { path: { name: handover.name } } };
  const settled = { onSettled: () => queries.invalidateQueries() };
  const trial = useMutation({
    mutationFn: async () => {
      const { error } = await api.POST("/api/v1/handovers/{name}/trial", path);
      if (error) {
        answer({ error });
      }
    },
    ...settled,
  });
  const remove = useMutation({
    mutationFn: async () => {
      const { error } = await api.DELETE("/api/v1/handovers/{name}", path);
      if (error) {
        answer({ error });
      }
    },
    ...settled,
  });
  return (
    <li className={`border-l-4 pl-3 ${handover.trouble ? "border-error" : "border-success"}`}>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="font-medium">{handover.name}</span>
        <span className="break-all text-base-content/75">{handover.url}</span>
        <span className="text-base-content/75">{handover.events.join(", ")}</span>
      </div>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span>
          {handover.waiting > 0 ? `${handover.waiting} waiting` : "none waiting"},{" "}
          {handover.last_delivered ? `last taken ${ago(handover.last_delivered, now)}` : "none taken yet"}
        </span>
        <button
          type="button"
          className="btn btn-xs"
          disabled={trial.isPending}
          onClick={() => {
            trial.mutate();
          }}
        >
          Try it
        </button>
        <details className="dropdown">
          <summary className="btn btn-xs">Remove</summary>
          <div className="dropdown-content z-10 mt-1 w-64 border border-base-300 bg-base-100 p-3 shadow">
            <p className="mb-2">What waits to be told by it is given up.</p>
            <button
              type="button"
              className="btn btn-sm btn-error"
              onClick={() => {
                remove.mutate();
              }}
            >
              Remove {handover.name}
            </button>
          </div>
        </details>
        {handover.trouble && <span className="text-error">{handover.trouble}</span>}
      </div>
      <Refusal error={trial.error ?? remove.error} title="It did not work." />
    </li>
  );
}
