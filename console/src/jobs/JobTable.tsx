import { Link } from "react-router";

import type { JobRow } from "../api/client";
import { type Column, Table } from "../parts/Table";
import { Ago } from "../parts/Time";
import { span } from "../parts/time";
import { JobProgress, JobStateMark } from "./JobState";

const MACHINE: Column<JobRow> = {
  name: "Machine",
  value: ({ machine }) => machine,
  cell: ({ machine }) => (
    <Link className="link-hover whitespace-nowrap" to={machine.includes(":") ? `/facts/${machine}` : `/machines/${machine}`}>
      {machine}
    </Link>
  ),
};

const COLUMNS: Column<JobRow>[] = [
  {
    name: "No.",
    value: ({ number }) => -number,
    cell: ({ number }) => (
      <Link className="link font-medium" to={`/jobs/${number}`}>
        {number}
      </Link>
    ),
  },
  { name: "Job", value: ({ summary }) => summary },
  { name: "State", value: ({ state }) => state, cell: (job) => <JobStateMark job={job} /> },
  {
    name: "Progress or outcome",
    show: "hidden sm:table-cell",
    value: ({ outcome }) => outcome ?? "",
    cell: (job) => (job.outcome == null ? <JobProgress job={job} /> : <span className="break-words">{job.outcome}</span>),
  },
  {
    name: "Duration",
    show: "hidden lg:table-cell",
    value: ({ began_at, ended_at }) => (began_at && ended_at ? Date.parse(ended_at) - Date.parse(began_at) : 0),
    cell: ({ began_at, ended_at }) => (began_at && ended_at ? span(began_at, ended_at) : "–"),
  },
  {
    name: "Since",
    show: "hidden md:table-cell",
    value: ({ ended_at, began_at, armed_at }) => ended_at ?? began_at ?? armed_at,
    cell: ({ ended_at, began_at, armed_at }) => <Ago at={ended_at ?? began_at ?? armed_at} />,
  },
  { name: "Armed by", show: "hidden xl:table-cell", value: ({ armed_by }) => armed_by },
];

/** Jobs, those of one machine or of all. */
export function JobTable({ jobs, ofOne = false }: { jobs: JobRow[]; ofOne?: boolean }) {
  const [number, ...rest] = COLUMNS;
  const columns = ofOne || number === undefined ? COLUMNS : [number, MACHINE, ...rest];
  return <Table label="Jobs" rows={jobs} columns={columns} keyOf={(job) => String(job.number)} />;
}
