import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";

import { answer, api, done, type WebhookView } from "../api/client";
import { Refusal } from "../parts/Faults";
import { NameActions } from "../parts/NameActions";
import { Section } from "../parts/Section";
import { Answered, Empty } from "../parts/States";
import { Ago } from "../parts/Time";
import { Deliveries } from "./Deliveries";
import { AddWebhook, ChangeWebhook } from "./WebhookForm";

/** Webhooks, and whether their deliveries arrive. */
export function WebhooksPage() {
  const webhooks = useQuery({
    queryKey: ["webhooks"],
    queryFn: async () => answer(await api.GET("/api/v1/webhooks")),
  });
  const deliveries = useQuery({
    queryKey: ["deliveries"],
    queryFn: async () => answer(await api.GET("/api/v1/deliveries", { params: { query: { limit: 500 } } })),
  });
  const [adding, setAdding] = useState(false);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-4 flex items-center gap-4">
        <h1 className="text-lg font-semibold">Webhooks</h1>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          onClick={() => {
            setAdding(true);
          }}
        >
          <Plus className="size-4" aria-hidden /> Add
        </button>
      </div>
      {adding && (
        <AddWebhook
          close={() => {
            setAdding(false);
          }}
        />
      )}
      <Section title="Receivers">
        <Answered query={webhooks} rows={2}>
          {(all) => (
            <>
              {all.length === 0 && <p className="mb-3 text-base-content/75">There is no webhook yet.</p>}
              <ul className="mb-4 max-w-4xl space-y-3">
                {all.map((webhook) => (
                  <Webhook key={webhook.name} webhook={webhook} />
                ))}
              </ul>
            </>
          )}
        </Answered>
      </Section>
      <Section title="Deliveries">
        <Answered query={deliveries}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="There is no delivery yet">Every event of an install is delivered to every webhook that asks for it.</Empty>
            ) : (
              <Deliveries deliveries={all} />
            )
          }
        </Answered>
      </Section>
    </div>
  );
}

function Webhook({ webhook }: { webhook: WebhookView }) {
  const [changing, setChanging] = useState(false);
  const queries = useQueryClient();
  const path = { params: { path: { name: webhook.name } } };
  const settled = { onSettled: () => queries.invalidateQueries() };
  const trial = useMutation({
    mutationFn: async () => {
      const { error } = await api.POST("/api/v1/webhooks/{name}/trial", path);
      if (error) {
        answer({ error });
      }
    },
    ...settled,
  });
  return (
    <li className={`border-l-4 pl-3 ${webhook.trouble ? "border-error" : "border-success"}`}>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="font-medium">{webhook.name}</span>
        <span className="break-all text-base-content/75">{webhook.url}</span>
        <span className="text-base-content/75">{webhook.events.join(", ")}</span>
      </div>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span>
          {webhook.waiting > 0 ? `${webhook.waiting} waiting` : "none waiting"},{" "}
          {webhook.last_delivered ? (
            <>
              last delivered <Ago at={webhook.last_delivered} />
            </>
          ) : (
            "none delivered yet"
          )}
        </span>
        <button
          type="button"
          className="btn btn-sm"
          disabled={trial.isPending}
          onClick={() => {
            trial.mutate();
          }}
        >
          Send a test
        </button>
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => {
            setChanging(true);
          }}
        >
          Change
        </button>
        <NameActions
          noun="webhook"
          name={webhook.name}
          page={() => "/webhooks"}
          rename={async (to) => answer(await api.POST("/api/v1/webhooks/{name}/rename", { ...path, body: { to } }))}
          remove={async () => {
            done(await api.DELETE("/api/v1/webhooks/{name}", path));
          }}
          lost="Its waiting deliveries are abandoned."
        />
        {webhook.trouble && <span className="text-error">{webhook.trouble}</span>}
      </div>
      <Refusal error={trial.error} title="Nothing was changed." />
      {changing && (
        <ChangeWebhook
          name={webhook.name}
          close={() => {
            setChanging(false);
          }}
        />
      )}
    </li>
  );
}
