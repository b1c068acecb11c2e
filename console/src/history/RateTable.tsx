import type { RateReport, Tally } from "../api/client";
import { duration } from "../parts/size";
import { type Column, Table } from "../parts/Table";

const secs = (value: number | null | undefined) => (value == null ? "–" : duration(value));

const COLUMNS: Column<Tally>[] = [
  { name: "Group", value: (tally) => tally.group, cell: (tally) => <span className="font-medium">{tally.group}</span> },
  { name: "Armed", value: (tally) => tally.armed },
  { name: "Installed", value: (tally) => tally.installed },
  {
    name: "Failed",
    value: (tally) => tally.failed,
    cell: (tally) => <span className={tally.failed > 0 ? "font-semibold text-error" : ""}>{tally.failed}</span>,
  },
  {
    name: "Stalled",
    value: (tally) => tally.stalled,
    cell: (tally) => <span className={tally.stalled > 0 ? "font-semibold text-error" : ""}>{tally.stalled}</span>,
  },
  { name: "Cancelled", show: "hidden md:table-cell", value: (tally) => tally.cancelled },
  {
    name: "Success",
    value: (tally) => tally.success_percent ?? -1,
    cell: (tally) => (tally.success_percent == null ? "–" : `${tally.success_percent.toFixed(1)} %`),
  },
  {
    name: "Median",
    show: "hidden sm:table-cell",
    value: (tally) => tally.median_secs ?? -1,
    cell: (tally) => secs(tally.median_secs),
  },
  {
    name: "9 of 10 in",
    show: "hidden md:table-cell",
    value: (tally) => tally.ninth_decile_secs ?? -1,
    cell: (tally) => secs(tally.ninth_decile_secs),
  },
  {
    name: "Longest",
    show: "hidden lg:table-cell",
    value: (tally) => tally.longest_secs ?? -1,
    cell: (tally) => secs(tally.longest_secs),
  },
];

/** How installs went, group by group, and all of them below. */
export function RateTable({ report }: { report: RateReport }) {
  return <Table label="Rates" rows={[...report.groups, report.all]} columns={COLUMNS} keyOf={(tally) => tally.group} />;
}
