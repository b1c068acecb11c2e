import { Link } from "react-router";

import type { SubnetView } from "../api/client";
import { Empty, Failed, Loading } from "../parts/States";
import { useSubnets } from "./useSubnets";

export function SubnetsPage() {
  const subnets = useSubnets();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex items-center gap-4">
        <h1 className="font-semibold">{subnets.data ? `${subnets.data.length} subnets` : "Subnets"}</h1>
        <Link className="btn btn-sm" to="/new-subnet">
          Add a subnet
        </Link>
      </div>
      {subnets.isError && (
        <Failed
          error={subnets.error}
          again={() => {
            void subnets.refetch();
          }}
        />
      )}
      {subnets.isPending && <Loading rows={3} />}
      {subnets.data?.length === 0 && (
        <Empty title="There is no subnet yet">
          <code>lastmile subnet suggest INTERFACE</code> proposes one from what the interface shows.
        </Empty>
      )}
      {subnets.data && subnets.data.length > 0 && (
        <table className="w-full text-left">
          <thead>
            <tr className="border-b border-base-300 text-xs text-base-content/70">
              <th className="p-2 font-normal">Name</th>
              <th className="p-2 font-normal">Network</th>
              <th className="hidden p-2 font-normal sm:table-cell">Mode</th>
              <th className="hidden p-2 font-normal lg:table-cell">Reached by</th>
              <th className="hidden p-2 font-normal lg:table-cell">Newcomers get</th>
              <th className="p-2 font-normal">Held</th>
            </tr>
          </thead>
          <tbody>
            {subnets.data.map((subnet) => (
              <Row key={subnet.name} subnet={subnet} />
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

function Row({ subnet }: { subnet: SubnetView }) {
  const reached = subnet.interface ?? `relay ${(subnet.relays ?? []).join(", ")}`;
  return (
    <tr className="border-b border-base-200 hover:bg-base-200">
      <td className="p-2">
        <Link className="link-hover font-medium" to={`/subnets/${subnet.name}`}>
          {subnet.name}
        </Link>
      </td>
      <td className="p-2">
        {subnet.network}
        {subnet.vlan != null && <span className="text-base-content/70"> VLAN {subnet.vlan}</span>}
      </td>
      <td className="hidden p-2 sm:table-cell">{subnet.mode}</td>
      <td className="hidden p-2 lg:table-cell">{reached}</td>
      <td className="hidden p-2 lg:table-cell">{subnet.newcomers}</td>
      <td className="p-2">
        <Fill subnet={subnet} />
      </td>
    </tr>
  );
}

/** From this share on a pool counts as nearly full, as the check says it. */
const NEARLY_FULL = 0.85;

/** How full the pools are, as a bar and in words. */
export function Fill({ subnet }: { subnet: SubnetView }) {
  if (subnet.mode !== "lease") {
    return <span className="text-base-content/70">none of ours</span>;
  }
  const share = subnet.pool_size === 0 ? 0 : subnet.leased / subnet.pool_size;
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <span className="hidden h-2 w-24 bg-base-300 sm:block" aria-hidden>
        <span
          className={`block h-full ${share > NEARLY_FULL ? "bg-error" : "bg-secondary"}`}
          style={{ width: `${Math.min(100, share * 100)}%` }}
        />
      </span>
      {subnet.leased} of {subnet.pool_size}
      {subnet.quarantined > 0 && <span className="text-error">, {subnet.quarantined} in use by others</span>}
    </span>
  );
}
