import { useState } from "react";
import { Link, useNavigate } from "react-router";

import type { AnswersView, LintReport } from "../api/client";
import { Section } from "../parts/Section";
import { Answered, Empty, Failed } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago } from "../parts/Time";
import { useAllAnswers, useLint } from "./useAnswers";

const COLUMNS: Column<AnswersView>[] = [
  {
    name: "Name",
    value: (answers) => answers.name,
    cell: (answers) => (
      <Link className="link-hover font-medium" to={`/answers/${encodeURIComponent(answers.name)}`}>
        {answers.name}
      </Link>
    ),
  },
  { name: "Version", value: (answers) => answers.version, cell: (answers) => `v${answers.version}` },
  {
    name: "Images",
    show: "hidden sm:table-cell",
    value: (answers) => (answers.settings.images ?? []).join(", "),
  },
  {
    name: "Users",
    show: "hidden md:table-cell",
    value: (answers) => Object.keys(answers.settings.users ?? {}).join(", "),
  },
  {
    name: "Asks",
    show: "hidden md:table-cell",
    value: (answers) => Object.keys(answers.settings.questions ?? {}).join(", "),
  },
  { name: "Saved", show: "hidden whitespace-nowrap sm:table-cell", value: (answers) => answers.created, cell: (answers) => <Ago at={answers.created} /> },
];

/** A value as it stands in one line; what is more than a value, by its keys. */
function shortly(value: unknown): string {
  if (Array.isArray(value)) {
    return value.map(shortly).join(", ");
  }
  return typeof value === "object" && value !== null ? Object.keys(value).join(", ") : String(value);
}

/** What a layer says, setting by setting. */
const says = ({ settings }: AnswersView) =>
  Object.entries(settings)
    .filter(([, value]) => value != null && shortly(value) !== "")
    .map(([key, value]) => [key.replaceAll("_", " "), shortly(value)] as const);

/** Other layers say little: all of it is shown. */
const layerColumns = (): Column<AnswersView>[] => {
  const all = COLUMNS;
  const saysColumn: Column<AnswersView> = {
    name: "Sets",
    value: (layer) => says(layer).flat().join(" "),
    cell: (layer) => (
      <span className="flex flex-wrap gap-x-4">
        {says(layer).map(([key, value]) => (
          <span key={key}>
            <span className="text-base-content/70">{key}</span> {value}
          </span>
        ))}
      </span>
    ),
  };
  return [...all.slice(0, 2), saysColumn, ...all.slice(-1)];
};

/** All answers, and first what is wrong with any of them. */
export function AnswersPage() {
  const all = useAllAnswers();
  const lint = useLint();
  const [name, setName] = useState("");
  const go = useNavigate();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <h1 className="text-lg font-semibold">Answers</h1>
        <form
          className="flex min-w-0 gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void go(`/answers/${encodeURIComponent(name.trim())}`);
          }}
        >
          <input
            className="input input-sm w-72 min-w-0 shrink"
            aria-label="Name of new answers"
            placeholder="new name, label:NAME or machine:NAME"
            value={name}
            onChange={(event) => {
              setName(event.target.value);
            }}
          />
          <button type="submit" className="btn btn-sm" disabled={name.trim() === ""}>
            Add
          </button>
        </form>
      </div>
      <Failed query={lint} />
      {lint.isPending && (
        <p role="status" className="mb-3 text-base-content/75">
          Checking every pair of answers and image with every machine …
        </p>
      )}
      {lint.data && <Findings report={lint.data} />}
      <Answered query={all} rows={4}>
        {(versions) => {
          const answers = versions.filter((version) => !version.name.includes(":"));
          const layers = versions.filter((version) => version.name.includes(":"));
          return (
            <>
              {answers.length === 0 ? (
                <Empty title="There are no answers yet">
                  Answers describe how a system is installed: users, disks, network, packages. Type
                  a name above to begin.
                </Empty>
              ) : (
                <Table label="Answers" rows={answers} columns={COLUMNS} keyOf={(version) => version.name} />
              )}
              <div className="mt-6">
                <Section title="Settings of the site, of labels and of machines">
                  {layers.length === 0 ? (
                    <p className="max-w-3xl text-base-content/75">
                      None. Set once for the <Link className="link" to="/answers/site%3A">site</Link>{" "}
                      what applies to all machines; a label or a machine overrides single settings.
                    </p>
                  ) : (
                    <Table label="Other settings" rows={layers} columns={layerColumns()} keyOf={(version) => version.name} />
                  )}
                </Section>
              </div>
            </>
          );
        }}
      </Answered>
    </div>
  );
}

/** What is wrong with pairs of answers and image. */
function Findings({ report }: { report: LintReport }) {
  if (report.findings.length === 0) {
    return (
      <p className="mb-3 text-base-content/75">
        Checked {report.pairs} pairs of answers and image with {report.machines} machines: no problem found.
        {report.unpaired.length > 0 && ` ${report.unpaired.join(", ")}: for no image.`}
      </p>
    );
  }
  return (
    <ul className="mb-4 max-w-4xl border-l-4 border-warning pl-3" aria-label="Problems">
      {report.findings.map((finding) => (
        <li key={finding.answers + finding.image + finding.place + finding.what} className="mb-1">
          <Link className="link-hover font-medium" to={`/answers/${encodeURIComponent(finding.answers)}`}>
            {finding.answers}
          </Link>{" "}
          with {finding.image}
          {finding.machine_count > 0 &&
            ` on ${finding.machines.join(", ")}${
              finding.machine_count > finding.machines.length
                ? ` and ${finding.machine_count - finding.machines.length} more`
                : ""
            }`}
          : <code>{finding.place}</code>: {finding.what}. {finding.fix}
        </li>
      ))}
    </ul>
  );
}
