import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { CircleAlert, TriangleAlert } from "lucide-react";
import { Link } from "react-router";

import { answer, api, type ArmSeveral, type ArmPreview as MachinePreview } from "../api/client";
import { Refusal } from "../parts/Faults";
import { Prose } from "../parts/Prose";
import { Section } from "../parts/Section";
import { Loading } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago } from "../parts/Time";
import { useRested } from "../parts/rested";

/** What arming would do to each machine, before anything is armed: what it would lose, what it would get, which obstacles there are. */
export function ArmPreview({ meant }: { meant: ArmSeveral | undefined }) {
  const body = useRested(JSON.stringify(meant ?? null));
  const preview = useQuery({
    queryKey: ["preview", body],
    enabled: body !== "null",
    retry: false,
    gcTime: 10_000,
    placeholderData: keepPreviousData,
    queryFn: async () => answer(await api.POST("/api/v1/installs/preview", { body: JSON.parse(body) as ArmSeveral })),
  });
  return (
    <Section title="What would happen">
      {meant ? (
        <>
          <Refusal error={preview.error} title="Nothing would be armed." />
          {preview.isPending && <Loading rows={3} />}
          {preview.data && !preview.error && <Machines machines={preview.data} />}
        </>
      ) : (
        <p className="text-base-content/75">Select machines, and choose image and answers.</p>
      )}
    </Section>
  );
}

function Machines({ machines }: { machines: MachinePreview[] }) {
  const refused = machines.filter(({ faults }) => faults.length > 0).length;
  const holding = machines.filter(({ holds }) => holds).length;
  const columns: Column<MachinePreview>[] = [
    {
      name: "Machine",
      value: ({ machine }) => machine,
      cell: ({ machine }) => (
        <Link to={`/machines/${machine}`} className="link-hover sm:whitespace-nowrap">
          {machine}
        </Link>
      ),
    },
    {
      name: "Image now",
      value: ({ holds }) => holds ?? "",
      cell: ({ holds, since }) =>
        holds ? (
          <>
            {holds} <span className="text-xs text-base-content/70">{since && <Ago at={since} />}</span>
          </>
        ) : (
          <span className="text-base-content/70">nothing on record</span>
        ),
    },
    { name: "Would get", value: ({ gets }) => gets ?? "", cell: ({ gets, host_name }) => gets && `${gets} as ${host_name}` },
    { name: "Answers", show: "hidden sm:table-cell", value: ({ answers }) => answers ?? "" },
    { name: "Erased disk", show: "hidden sm:table-cell", value: ({ takes }) => takes.join(" and ") },
    {
      name: "Notes",
      value: ({ faults, asks, warnings }) => (faults.length > 0 ? 3 : warnings.length > 0 ? 2 : asks.length > 0 ? 1 : 0),
      cell: (machine) => <Notes machine={machine} />,
    },
  ];
  return (
    <>
      <p role="status" className="mb-2">
        {refused > 0 ? (
          <>
            <CircleAlert className="mr-1 inline size-4 text-error" aria-hidden />
            {refused === machines.length ? "None can" : `${refused} of ${machines.length} cannot`} be armed, so none would be.
          </>
        ) : (
          summary(machines.length, holding)
        )}
      </p>
      <Table
        label="What would happen"
        rows={machines}
        columns={columns}
        keyOf={({ machine }) => machine}
        order={{ column: "Notes", reverse: true }}
      />
    </>
  );
}

function Notes({ machine }: { machine: MachinePreview }) {
  return (
    <>
      {machine.faults.map(({ place, what, fix }) => (
        <p key={place + what}>
          <CircleAlert className="mr-1 inline size-4 text-error" aria-label="obstacle" />
          {what}. <span className="text-base-content/75">
            <Prose text={fix} />
          </span>
        </p>
      ))}
      {machine.warnings.map(({ place, what, fix }) => (
        <p key={place + what}>
          <TriangleAlert className="mr-1 inline size-4 text-warning" aria-label="warning" />
          {what}. <span className="text-base-content/75">
            <Prose text={fix} />
          </span>
        </p>
      ))}
      {machine.asks.length > 0 && <p>waits for {machine.asks.join(", ")}</p>}
    </>
  );
}

/** How many are meant, and how many of them have something to lose. */
function summary(all: number, holding: number): string {
  if (all === 1) {
    return holding === 1 ? "One machine, which has a system installed and would lose it." : "One machine, on which nothing is installed by the record.";
  }
  const of = holding === 0 ? "none" : holding === all ? "all" : holding;
  return `${all} machines; ${of} ${holding === 1 ? "has" : "have"} a system installed and would lose it.`;
}
