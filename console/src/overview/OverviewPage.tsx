import { Link } from "react-router";

import type { InstallRow, Overview } from "../api/client";
import { JobTable } from "../jobs/JobTable";
import { Route } from "../parts/Route";
import { Section } from "../parts/Section";
import { StateMark } from "../parts/StateMark";
import { Answered } from "../parts/States";
import { Ago, When } from "../parts/Time";
import { duration } from "../parts/size";
import { AttentionList } from "./AttentionList";
import { useOverview } from "./useOverview";

/** What needs attention, what is in progress, what happened today, and the state of the service. */
export function OverviewPage() {
  const overview = useOverview();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="mb-3 text-lg font-semibold">Overview</h1>
      <Answered query={overview}>
        {(data) => (
          <div className="grid max-w-7xl gap-x-8 xl:grid-cols-[minmax(0,1fr)_20rem]">
            <div className="min-w-0">
              <Section title={`Needs attention${data.attention_total > 0 ? ` (${data.attention_total})` : ""}`}>
                <AttentionList all={data.attention} total={data.attention_total} />
              </Section>
              <Section title={`In progress${data.in_progress_total > 0 ? ` (${data.in_progress_total})` : ""}`}>
                <InProgress installs={data.in_progress} total={data.in_progress_total} />
              </Section>
              {data.jobs_total > 0 && (
                <Section title={`Jobs (${data.jobs_total})`}>
                  <JobTable jobs={data.jobs} />
                </Section>
              )}
              <Section title="Ended today">
                <Ended installs={data.ended} />
              </Section>
            </div>
            <div className="min-w-0">
              <Today overview={data} />
              <Service overview={data} />
            </div>
          </div>
        )}
      </Answered>
    </div>
  );
}

function InProgress({ installs, total }: { installs: InstallRow[]; total: number }) {
  if (installs.length === 0) {
    return (
      <p className="text-base-content/75">
        No install is in progress. <Link to="/machines" className="link">Select machines</Link> to arm some.
      </p>
    );
  }
  return (
    <>
      <table className="w-full text-left" aria-label="Installs in progress">
        <thead>
          <tr className="border-b border-base-300 text-xs text-base-content/70">
            <th className="p-1.5 font-normal">Machine</th>
            <th className="p-1.5 font-normal max-sm:hidden">Progress</th>
            <th className="p-1.5 font-normal">State</th>
            <th className="p-1.5 font-normal max-md:hidden">Image</th>
            <th className="p-1.5 font-normal">Time left</th>
          </tr>
        </thead>
        <tbody>
          {installs.map((install) => (
            <tr key={install.number} className="border-b border-base-200 hover:bg-base-200">
              <td className="p-1.5">
                <Link className="link-hover font-medium" to={`/installs/${install.number}`}>
                  {install.machine}
                </Link>
              </td>
              <td className="p-1.5 max-sm:hidden">
                <Route step={install.last_step} state={install.state} />
              </td>
              <td className="p-1.5">
                <StateMark state={install.state} />
              </td>
              <td className="p-1.5 max-md:hidden">
                {install.image} r{install.revision}
              </td>
              <td className="p-1.5 whitespace-nowrap">
                {install.progress ? (
                  `${duration(install.progress.left_secs)}, ${install.progress.percent} %`
                ) : (
                  <span className="text-base-content/70">
                    <Ago at={install.last_step_at} />
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {total > installs.length && (
        <Link to="/installs?state=armed,booting,installing" className="link mt-2 inline-block">
          All {total}
        </Link>
      )}
    </>
  );
}

function Ended({ installs }: { installs: InstallRow[] }) {
  if (installs.length === 0) {
    return <p className="text-base-content/75">No install has ended today.</p>;
  }
  return (
    <ul>
      {installs.map((install) => (
        <li
          key={install.number}
          className="grid grid-cols-[6.25rem_minmax(0,1fr)_7rem] items-center gap-3 border-b border-base-200 px-1.5 py-1 hover:bg-base-200 sm:grid-cols-[6.25rem_minmax(0,1fr)_minmax(0,1fr)_7rem]"
        >
          <When at={install.ended_at} />
          <Link className="link-hover truncate font-medium" to={`/installs/${install.number}`}>
            {install.machine}
          </Link>
          <span className="truncate max-sm:hidden">
            {install.image} r{install.revision}
          </span>
          <StateMark state={install.state} />
        </li>
      ))}
    </ul>
  );
}

function Today({ overview: { today } }: { overview: Overview }) {
  const counts: [string, number, string][] = [
    ["installed", today.installed, "border-success"],
    ["failed", today.failed, "border-error"],
    ["stalled", today.stalled, "border-error"],
    ["cancelled", today.cancelled, "border-base-300"],
    ["armed", today.armed, "border-accent"],
  ];
  return (
    <Section title="Today">
      <dl className="grid grid-cols-2 gap-2">
        {counts.map(([name, count, tone]) => (
          <div key={name} className={`flex items-baseline gap-2 border-l-4 bg-base-200 px-3 py-1.5 ${tone}`}>
            <dd className="text-lg font-semibold">{count}</dd>
            <dt className="order-last">{name}</dt>
          </div>
        ))}
      </dl>
    </Section>
  );
}

function Service({ overview: { service } }: { overview: Overview }) {
  const { counters } = service;
  const rows: [string, React.ReactNode][] = [
    ["Version", service.version],
    ["Started", <Ago key="started" at={service.since} />],
    ["Recording", service.trouble == null ? "yes" : <span className="text-error">no</span>],
    ["Machines", service.machines],
    ["DHCP", `${counters.dhcp_answered} answered, ${counters.dhcp_ignored} not for us`],
    ["TFTP", `${counters.tftp_done} sent, ${counters.tftp_failed} aborted`],
    ["Boot HTTP", `${counters.http_served} served, ${counters.http_refused} refused`],
    ["Listens on", service.listens.map((line) => <div key={line}>{line}</div>)],
  ];
  return (
    <Section title="Service">
      <dl className="grid grid-cols-[6rem_minmax(0,1fr)] gap-x-3 gap-y-1">
        {rows.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-base-content/70">{name}</dt>
            <dd className="break-words">{value}</dd>
          </div>
        ))}
      </dl>
      <Link to="/check" className="btn btn-sm mt-3">
        Run the check
      </Link>
    </Section>
  );
}
