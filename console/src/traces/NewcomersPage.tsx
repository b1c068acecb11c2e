import { Link } from "react-router";

import type { NewcomerView } from "../api/client";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { ago, useNow } from "../parts/time";
import { useNewcomers } from "./useTrace";

const COLUMNS: Column<NewcomerView>[] = [
  {
    name: "MAC",
    show: "whitespace-nowrap",
    value: (newcomer) => newcomer.mac,
    cell: ({ mac }) => (
      <Link className="link-hover font-mono text-xs" to={`/traces/${encodeURIComponent(mac)}`}>
        {mac}
      </Link>
    ),
  },
  {
    name: "Seen",
    show: "whitespace-nowrap",
    // The one seen last comes first, as it does unsorted.
    value: ({ last_seen }) => -Date.parse(last_seen),
    cell: ({ last_seen }) => <Seen at={last_seen} />,
  },
  { name: "Asked", show: "hidden sm:table-cell", value: (newcomer) => newcomer.asked },
  { name: "Got", show: "hidden lg:table-cell", value: (newcomer) => newcomer.got },
];

/** Machines that nobody registered: those that are registered have their trace on their own page. */
export function NewcomersPage() {
  const newcomers = useNewcomers();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="mb-1 font-semibold">Newcomers on the wire</h1>
      <p className="mb-3 max-w-prose text-base-content/75">
        Machines that nobody registered and that asked since the service started. The trace of a registered machine is
        linked from its page.
      </p>
      <Answered query={newcomers} rows={4}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No newcomer has asked">
              If a machine is switched on and does not appear here, its questions do not reach this service:{" "}
              <Link className="link" to="/check">
                look at the check
              </Link>
              .
            </Empty>
          ) : (
            <Table label="Newcomers" rows={all} columns={COLUMNS} keyOf={(newcomer) => newcomer.mac} />
          )
        }
      </Answered>
    </div>
  );
}

function Seen({ at }: { at: string }) {
  return ago(at, useNow());
}
