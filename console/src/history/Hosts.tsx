import { Link } from "react-router";

import type { HostRecord } from "../api/client";
import { type Column, Table } from "../parts/Table";
import { When } from "../parts/Time";

const COLUMNS: Column<HostRecord>[] = [
  {
    name: "Host",
    value: (host) => host.machine,
    cell: (host) =>
      host.left ? (
        <span className="text-base-content/70">{host.machine}</span>
      ) : (
        <Link className="link-hover font-medium" to={`/machines/${host.machine}`}>
          {host.machine}
        </Link>
      ),
  },
  {
    name: "Image",
    value: (host) => `${host.image} r${host.revision}`,
    cell: (host) => (
      <>
        <Link className="link-hover" to={`/images/${host.image}`}>
          {host.image} r{host.revision}
        </Link>
        {host.is_behind && !host.left && (
          <span className="block text-xs font-semibold">r{host.current} is current</span>
        )}
        {host.is_stateless && <span className="block text-xs text-base-content/70">from memory</span>}
      </>
    ),
  },
  {
    name: "Answers",
    show: "hidden md:table-cell",
    value: (host) => `${host.answers} v${host.answers_version}`,
  },
  { name: "Since", value: (host) => Date.parse(host.since), cell: (host) => <When at={host.since} /> },
  {
    name: "Install",
    show: "hidden sm:table-cell",
    value: (host) => host.install,
    cell: (host) => (
      <Link className="link-hover" to={`/installs/${host.install}`}>
        {host.install}
      </Link>
    ),
  },
  { name: "Armed by", show: "hidden md:table-cell", value: (host) => host.armed_by },
  {
    name: "Removed",
    show: "hidden sm:table-cell",
    value: (host) => (host.left ? Date.parse(host.left) : 0),
    cell: (host) => (host.left ? <When at={host.left} /> : ""),
  },
];

/** Which host has what, since when and from whom. */
export function Hosts({ hosts }: { hosts: HostRecord[] }) {
  return <Table label="Hosts" rows={hosts} columns={COLUMNS} keyOf={(host) => String(host.install)} />;
}
