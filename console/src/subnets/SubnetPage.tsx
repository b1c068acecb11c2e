import { ArrowLeft } from "lucide-react";
import { Link, useParams } from "react-router";

import { type Advice, api, basedOn, done, type SubnetView } from "../api/client";
import { NameActions } from "../parts/NameActions";
import { Pairs } from "../parts/Pairs";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { Reservations } from "./Reservations";
import { SubnetPicture } from "./SubnetPicture";
import { Fill } from "./SubnetsPage";
import { useSubnet } from "./useSubnets";

export function SubnetPage() {
  const { name = "" } = useParams();
  const { subnet, picture, advice } = useSubnet(name);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/subnets" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Subnets
      </Link>
      <div className="mt-1 mb-4 flex items-center gap-4">
        <h1 className="text-lg font-semibold">{name}</h1>
        <Link className="btn btn-sm" to={`/subnets/${name}/edit`}>
          Change
        </Link>
        <NameActions
          noun="subnet"
          name={name}
          page={() => "/subnets"}
          remove={async () => {
            done(await api.DELETE("/api/v1/subnets/{name}", { params: { path: { name } }, headers: basedOn(subnet.data?.etag) }));
          }}
          lost="Its reservations are lost. Machines on it are no longer answered."
        />
      </div>
      <Answered query={subnet}>
        {(data) => (
          <>
            <div className="grid gap-x-8 lg:grid-cols-[minmax(0,24rem)_minmax(0,1fr)]">
              <div>
                <Settings subnet={data} />
                <Section title="Reserved">
                  <Reservations name={name} />
                </Section>
              </div>
              <Section title="Every address">
                <Answered query={picture}>{(drawn) => <SubnetPicture subnet={name} picture={drawn} />}</Answered>
              </Section>
            </div>
            <Section title="Settings for another DHCP server and for a firewall">
              <Answered query={advice} rows={1}>
                {(values) => <AdviceTable advice={values} />}
              </Answered>
            </Section>
          </>
        )}
      </Answered>
    </div>
  );
}

function Settings({ subnet }: { subnet: SubnetView }) {
  const list = (values: string[] | undefined) => (values && values.length > 0 ? values.join(", ") : "–");
  const yes = (value: boolean | undefined) => (value ? "yes" : "no");
  const options = Object.entries(subnet.options ?? {});
  return (
    <Section title="Settings">
      <Pairs
        pairs={[
          ["Network", subnet.network],
          ["Mode", subnet.mode ?? "lease"],
          ["Held", <Fill subnet={subnet} />],
          ["Reserved", subnet.reserved],
          ["Pools", list(subnet.pools)],
          ["Exclusions", list(subnet.exclusions)],
          ["Router", subnet.router ?? "–"],
          ["DNS", list(subnet.dns)],
          ["Domain", subnet.domain ?? "–"],
          ["NTP", list(subnet.ntp)],
          ["Lease", `${subnet.lease_secs ?? 0} s`],
          ["Interface", subnet.interface ?? "–"],
          ["VLAN", subnet.vlan ?? "–"],
          ["Relays", list(subnet.relays)],
          ["Newcomers get", subnet.newcomers ?? "–"],
          ["Probe", yes(subnet.probe)],
          ["Authoritative", yes(subnet.authoritative)],
          ["Head start of other servers", `${subnet.head_start_ms ?? 0} ms`],
          ["Machines known by", subnet.identify ?? (subnet.mode === "off" ? "first-claim" : "address")],
          ["HTTP boot", subnet.http_boot ?? "http"],
          ["Machines reach", subnet.service],
          ...options.map(([name, value]) => [name, value] as [string, string]),
        ]}
      />
    </Section>
  );
}

function AdviceTable({ advice }: { advice: Advice }) {
  return (
      <details>
        <summary className="cursor-pointer">
          The values to enter for each kind of client, and the ports to open
        </summary>
        {advice.remarks.map((remark) => (
          <p key={remark} className="mt-2 max-w-prose text-base-content/80">
            {remark}
          </p>
        ))}
        <div className="mt-3 overflow-x-auto">
          <table className="text-left">
            <thead>
              <tr className="text-xs text-base-content/70">
                {["Architecture", "If", "Next server", "Boot file", "Options"].map((head) => (
                  <th key={head} className="p-2 font-normal">
                    {head}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {advice.rows.map((row) => (
                <tr key={row.clients} className="border-t border-base-200 align-top">
                  <td className="p-2 whitespace-nowrap">{row.architecture}</td>
                  <td className="p-2">{row.clients}</td>
                  <td className="p-2">{row.next_server ?? "–"}</td>
                  <td className="p-2 font-mono text-xs">{row.boot_file}</td>
                  <td className="p-2 font-mono text-xs">
                    {row.options.map((option) => (
                      <div key={option.code}>
                        {option.code} = {option.value}
                      </div>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <div className="mt-4 overflow-x-auto">
          <table className="text-left">
            <tbody>
              {advice.ports.map((port) => (
                <tr key={`${port.from} ${port.to}`} className="border-t border-base-200">
                  <td className="p-2">{port.protocol}</td>
                  <td className="p-2">{port.from}</td>
                  <td className="p-2">→ {port.to}</td>
                  <td className="p-2 text-base-content/75">{port.purpose}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </details>
  );
}
