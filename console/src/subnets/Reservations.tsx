import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, done, faultsOf } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { Answered } from "../parts/States";

/** The reservations of a subnet, with a line to add one. */
export function Reservations({ name }: { name: string }) {
  const queries = useQueryClient();
  const params = { params: { path: { name } } };
  const all = useQuery({
    queryKey: ["reservations", name],
    queryFn: async () => answer(await api.GET("/api/v1/subnets/{name}/reservations", params)),
  });
  const again = () => queries.invalidateQueries();
  const [ending, setEnding] = useState<string>();
  return (
    <>
      <Answered query={all} rows={1}>
        {(reservations) =>
          reservations.map((reservation) => (
            <div key={reservation.address} className="flex items-center gap-3 border-b border-base-200 py-1">
              <span className="w-32">{reservation.address}</span>
              <span className="min-w-0 flex-1 break-all">{reservation.machine ?? reservation.client}</span>
              <button
                type="button"
                className="btn btn-ghost btn-xs"
                aria-label={`Remove the reservation of ${reservation.address}`}
                onClick={() => {
                  setEnding(reservation.address);
                }}
              >
                Remove
              </button>
            </div>
          ))
        }
      </Answered>
      {ending !== undefined && (
        <Confirm
          title={`Remove the reservation of ${ending}?`}
          text="The address may be given to any machine, if it lies in a pool."
          action="Remove"
          act={async () => {
            const path = { name, address: ending };
            done(await api.DELETE("/api/v1/subnets/{name}/reservations/{address}", { params: { path } }));
          }}
          close={() => {
            setEnding(undefined);
          }}
        />
      )}
      <Reserve name={name} reserved={again} />
    </>
  );
}

function Reserve({ name, reserved }: { name: string; reserved: () => Promise<void> }) {
  const [address, setAddress] = useState("");
  const [client, setClient] = useState("");
  const reserve = useMutation({
    mutationFn: async () =>
      answer(
        await api.POST("/api/v1/subnets/{name}/reservations", {
          params: { path: { name } },
          body: { address, client },
        }),
      ),
    onSuccess: async () => {
      setAddress("");
      setClient("");
      await reserved();
    },
  });
  const faults = faultsOf(reserve.error);
  return (
    <form
      className="pt-2"
      onSubmit={(event) => {
        event.preventDefault();
        reserve.mutate();
      }}
    >
      <div className="flex flex-wrap gap-2">
        <input
          className="input input-sm w-36"
          aria-label="Address to reserve"
          placeholder="address"
          value={address}
          onChange={(event) => {
            setAddress(event.target.value);
          }}
        />
        <input
          className="input input-sm min-w-40 flex-1"
          aria-label="Client: machine, MAC address, uuid:… or id:…"
          placeholder="machine, MAC, uuid:… or id:…"
          value={client}
          onChange={(event) => {
            setClient(event.target.value);
          }}
        />
        <button type="submit" className="btn btn-sm" disabled={reserve.isPending}>
          Reserve
        </button>
      </div>
      {faults.map((fault) => (
        <Trouble key={fault.place + fault.what} text={`${fault.what}. ${fault.fix}`} />
      ))}
      {reserve.error && faults.length === 0 && <Trouble text={reserve.error.message} />}
    </form>
  );
}

function Trouble({ text }: { text: string }) {
  return (
    <p role="alert" className="mt-1 border-l-4 border-error pl-2 text-error">
      {text}
    </p>
  );
}
