import { Download } from "lucide-react";
import { Link, useSearchParams } from "react-router";

import { Section } from "../parts/Section";
import { Answered, Empty } from "../parts/States";
import { Days } from "./Days";
import { Durations } from "./Durations";
import { Outliers } from "./Outliers";
import { Stages } from "./Stages";
import { DRAWN_INSTALLS, useInstallTimes } from "./useInstallTimes";
import { Weeks } from "./Weeks";
import { Hosts } from "./Hosts";
import { RateTable } from "./RateTable";
import { type GroupBy, hostsAddress, ratesAddress, useHosts, useRates } from "./useHistory";

const GROUPS: [GroupBy, string][] = [
  ["image", "by image"],
  ["revision", "by revision"],
  ["subnet", "by subnet"],
  ["label", "by label"],
];

/** What the record says when it is asked as a whole: how installs went, who has what, who is behind. */
export function HistoryPage() {
  const [params, setParams] = useSearchParams();
  const by = (params.get("by") as GroupBy | null) ?? "image";
  const since = params.get("since") ?? "";
  const behind = params.get("behind") === "true";
  const change = (key: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value === "") {
      next.delete(key);
    } else {
      next.set(key, value);
    }
    setParams(next, { replace: true });
  };
  const hosts = useHosts(behind);
  const rates = useRates(by, since);
  const times = useInstallTimes();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <h1 className="text-lg font-semibold">History</h1>
        <Link to="/webhooks" className="link-hover text-base-content/75">
          Webhooks
        </Link>
        {(hosts.data?.behind ?? 0) > 0 && !behind && (
          <button
            type="button"
            className="link cursor-pointer"
            onClick={() => {
              change("behind", "true");
            }}
          >
            {hosts.data?.behind === 1 ? "1 host is" : `${hosts.data?.behind} hosts are`} behind the current revision
          </button>
        )}
      </div>
      <Section title="Success and duration">
        <div className="mb-2 flex flex-wrap items-center gap-4">
          <select
            className="select select-sm w-40"
            aria-label="Group"
            value={by}
            onChange={(event) => {
              change("by", event.target.value);
            }}
          >
            {GROUPS.map(([value, name]) => (
              <option key={value} value={value}>
                {name}
              </option>
            ))}
          </select>
          <label className="flex items-center gap-2">
            armed since
            <input
              type="date"
              className="input input-sm w-40"
              value={since}
              onChange={(event) => {
                change("since", event.target.value);
              }}
            />
          </label>
          <Csv address={ratesAddress(by, since)} name="rates.csv" />
        </div>
        <Answered query={rates} rows={3}>
          {(report) => (
            <>
              {report.days.length > 0 && (
                <div className="mb-4 grid max-w-5xl gap-6 lg:grid-cols-2">
                  <Days days={report.days} />
                  <Durations groups={report.groups} />
                  <Weeks days={report.days} />
                  {times.data && <Stages installs={times.data.installs} now={times.dataUpdatedAt} />}
                  {times.data && <Outliers installs={times.data.installs} />}
                  {times.data && times.data.total > DRAWN_INSTALLS && (
                    <p className="text-xs text-base-content/75">Stages and single durations are those of the latest {DRAWN_INSTALLS} installs.</p>
                  )}
                </div>
              )}
              <RateTable report={report} />
            </>
          )}
        </Answered>
      </Section>
      <Section title="Hosts and their images">
        <Answered query={hosts}>
          {(all) => (
            <>
              <div className="mb-2 flex flex-wrap items-center gap-4">
                <label className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-sm"
                    checked={behind}
                    disabled={!behind && all.behind === 0}
                    onChange={(event) => {
                      change("behind", event.target.checked ? "true" : "");
                    }}
                  />
                  {behind || all.behind > 0 ? `only the ${all.behind} behind the current revision` : "none is behind the current revision"}
                </label>
                <Csv address={hostsAddress(behind)} name="hosts.csv" />
              </div>
              {all.hosts.length === 0 ? (
                <Empty title={behind ? "No host is behind" : "No host is installed yet"}>
                  {!behind && "The image of each installed host is listed here, also after its machine was removed."}
                </Empty>
              ) : (
                <Hosts hosts={all.hosts} />
              )}
            </>
          )}
        </Answered>
      </Section>
    </div>
  );
}

function Csv({ address, name }: { address: string; name: string }) {
  return (
    <a className="btn btn-sm" href={address} download={name}>
      <Download className="size-4" aria-hidden /> {name}
    </a>
  );
}
