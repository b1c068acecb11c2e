import { Link } from "react-router";

import { Empty, Failed, Loading } from "../parts/States";
import { ago, useNow } from "../parts/time";
import { useNewcomers } from "./useTrace";

/** Machines that nobody registered: those that are registered have their trace on their own page. */
export function NewcomersPage() {
  const newcomers = useNewcomers();
  const now = useNow();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="mb-1 font-semibold">Newcomers on the wire</h1>
      <p className="mb-3 max-w-prose text-base-content/75">
        Machines that nobody registered and that asked since the service started. The trace of a registered machine is
        linked from its page.
      </p>
      {newcomers.isError && (
        <Failed
          error={newcomers.error}
          again={() => {
            void newcomers.refetch();
          }}
        />
      )}
      {newcomers.isPending && <Loading rows={4} />}
      {newcomers.data?.length === 0 && (
        <Empty title="No newcomer has asked">
          If a machine is switched on and does not appear here, its questions do not reach this service:{" "}
          <Link className="link" to="/check">
            look at the check
          </Link>
          .
        </Empty>
      )}
      {newcomers.data && newcomers.data.length > 0 && (
        <table className="w-full text-left">
          <thead>
            <tr className="border-b border-base-300 text-xs text-base-content/70">
              <th className="p-2 font-normal">MAC</th>
              <th className="p-2 font-normal">Seen</th>
              <th className="hidden p-2 font-normal sm:table-cell">Asked</th>
              <th className="hidden p-2 font-normal lg:table-cell">Got</th>
            </tr>
          </thead>
          <tbody>
            {newcomers.data.map((newcomer) => (
              <tr key={newcomer.mac} className="border-b border-base-200 align-top hover:bg-base-200">
                <td className="p-2 whitespace-nowrap">
                  <Link className="link-hover font-mono text-xs" to={`/traces/${encodeURIComponent(newcomer.mac)}`}>
                    {newcomer.mac}
                  </Link>
                </td>
                <td className="p-2 whitespace-nowrap">{ago(newcomer.last_seen, now)}</td>
                <td className="hidden p-2 sm:table-cell">{newcomer.asked}</td>
                <td className="hidden p-2 text-base-content/80 lg:table-cell">{newcomer.got}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
