import { Link } from "react-router";

import type { SubnetView } from "../api/client";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { useSubnets } from "./useSubnets";

const COLUMNS: Column<SubnetView>[] = [
  {
    name: "Name",
    value: (subnet) => subnet.name,
    cell: (subnet) => (
      <Link className="link-hover font-medium" to={`/subnets/${subnet.name}`}>
        {subnet.name}
      </Link>
    ),
  },
  {
    name: "Network",
    value: (subnet) => subnet.network,
    cell: (subnet) => (
      <>
        {subnet.network}
        {subnet.vlan != null && <span className="text-base-content/70"> VLAN {subnet.vlan}</span>}
      </>
    ),
  },
  { name: "Mode", show: "hidden sm:table-cell", value: (subnet) => subnet.mode ?? "lease" },
  {
    name: "Reached by",
    show: "hidden lg:table-cell",
    value: (subnet) => subnet.interface ?? `relay ${(subnet.relays ?? []).join(", ")}`,
  },
  { name: "Newcomers get", show: "hidden lg:table-cell", value: (subnet) => subnet.newcomers ?? "–" },
  { name: "Held", value: share, cell: (subnet) => <Fill subnet={subnet} /> },
];

export function SubnetsPage() {
  const subnets = useSubnets();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex items-center gap-4">
        <h1 className="text-lg font-semibold">{subnets.data ? `${subnets.data.length} subnets` : "Subnets"}</h1>
        <Link className="btn btn-sm" to="/new-subnet">
          Add a subnet
        </Link>
      </div>
      <Answered query={subnets} rows={3}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="There is no subnet yet">
              <code>lastmile subnet suggest INTERFACE</code> proposes one from what the interface shows.
            </Empty>
          ) : (
            <Table label="Subnets" rows={all} columns={COLUMNS} keyOf={(subnet) => subnet.name} />
          )
        }
      </Answered>
    </div>
  );
}

/** From this share on a pool counts as nearly full, as the check says it. */
const NEARLY_FULL = 0.85;

function share(subnet: SubnetView): number {
  return subnet.pool_size === 0 ? 0 : subnet.leased / subnet.pool_size;
}

/** How full the pools are, as a bar and in words. */
export function Fill({ subnet }: { subnet: SubnetView }) {
  if (subnet.mode !== "lease") {
    return <span className="text-base-content/70">none of ours</span>;
  }
  const full = share(subnet);
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <span className="hidden h-2 w-24 bg-base-300 sm:block" aria-hidden>
        <span
          className={`block h-full ${full > NEARLY_FULL ? "bg-error" : "bg-secondary"}`}
          style={{ width: `${Math.min(100, full * 100)}%` }}
        />
      </span>
      {subnet.leased} of {subnet.pool_size}
      {subnet.quarantined > 0 && <span className="text-error">, {subnet.quarantined} in use by others</span>}
    </span>
  );
}
