import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";

import { answer, api, type DeliveryView } from "../api/client";
import { Refusal } from "../parts/Faults";
import { type Column, Table } from "../parts/Table";
import { When } from "../parts/Time";

function status({ delivered, due }: DeliveryView): string {
  return delivered ? "delivered" : due ? "next attempt" : "abandoned";
}

/** Deliveries, latest first. */
export function Deliveries({ deliveries }: { deliveries: DeliveryView[] }) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: async ({ number, what }: { number: number; what: "send" | "abandon" }) => {
      const path = { params: { path: { number } } };
      return answer(
        what === "send"
          ? await api.POST("/api/v1/deliveries/{number}/send", path)
          : await api.POST("/api/v1/deliveries/{number}/abandon", path),
      );
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const columns: Column<DeliveryView>[] = [
    { name: "No.", value: ({ number }) => number },
    { name: "To", value: ({ webhook }) => webhook },
    { name: "Event", value: ({ event }) => event },
    {
      name: "Install",
      value: ({ install }) => install ?? 0,
      cell: ({ install }) =>
        install == null ? (
          "–"
        ) : (
          <Link className="link-hover" to={`/installs/${install}`}>
            {install}
          </Link>
        ),
    },
    { name: "Attempts", show: "hidden md:table-cell", value: ({ attempts }) => attempts },
    {
      name: "Status",
      value: status,
      cell: (delivery) => (
        <>
          <span className={delivery.delivered ? "" : "font-semibold"}>
            {status(delivery)} {(delivery.delivered ?? delivery.due) && <When at={delivery.delivered ?? delivery.due} />}
          </span>
          {!delivery.delivered && delivery.last_answer && (
            <span className="block text-xs break-words text-error">{delivery.last_answer}</span>
          )}
        </>
      ),
    },
    {
      name: "Action",
      show: "hidden sm:table-cell",
      value: () => "",
      cell: ({ number, due }) => (
        <span className="flex gap-2 whitespace-nowrap">
          <button
            type="button"
            className="btn btn-xs"
            onClick={() => {
              act.mutate({ number, what: "send" });
            }}
          >
            {due ? "Send now" : "Send again"}
          </button>
          {due && (
            <button
              type="button"
              className="btn btn-xs"
              onClick={() => {
                act.mutate({ number, what: "abandon" });
              }}
            >
              Abandon
            </button>
          )}
        </span>
      ),
    },
  ];
  return (
    <>
      <Refusal error={act.error} title="It did not work." />
      <Table label="Deliveries" rows={deliveries} columns={columns} keyOf={({ number }) => String(number)} />
    </>
  );
}
