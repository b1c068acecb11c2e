import { Play, Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import type { RuleView } from "../api/client";
import { Section } from "../parts/Section";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago } from "../parts/Time";
import { Proposals } from "./Proposals";
import { RunRules } from "./RunRules";
import { useProposals, useRules } from "./useRules";

const MODES: Record<string, string> = { apply: "border-success", propose: "border-accent border-dashed", off: "border-base-300 text-base-content/70" };

/** What follows of a rule, in a few words. */
function follows({ rule }: RuleView): string {
  const said = [
    rule.name != null && `name ${rule.name}`,
    rule.address != null && `address ${rule.address}`,
    (rule.labels ?? []).length > 0 && `label ${(rule.labels ?? []).join(", ")}`,
    rule.location === true && "place in its rack",
    Object.keys(rule.details ?? {}).length > 0 && `details ${Object.keys(rule.details ?? {}).join(", ")}`,
    rule.default_boot != null && `boots ${rule.default_boot}`,
    rule.arm === true && `install ${[rule.image, rule.answers].filter(Boolean).join(" with ") || "of its labels"}`,
  ];
  return said.filter(Boolean).join("; ");
}

const COLUMNS: Column<RuleView>[] = [
  {
    name: "Rule",
    value: ({ name }) => name,
    cell: ({ name }) => (
      <Link className="link-hover font-medium whitespace-nowrap" to={`/rules/${encodeURIComponent(name)}`}>
        {name}
      </Link>
    ),
  },
  {
    name: "Mode",
    value: ({ rule }) => rule.mode ?? "propose",
    cell: ({ rule }) => <span className={`inline-block border-l-4 pl-2 ${MODES[rule.mode ?? "propose"]}`}>{rule.mode ?? "propose"}</span>,
  },
  { name: "Rank", show: "hidden sm:table-cell", value: ({ rule }) => rule.rank ?? 0 },
  {
    name: "Condition",
    show: "hidden sm:table-cell",
    value: ({ rule }) => rule.condition ?? "",
    cell: ({ rule }) => <code className="text-xs break-words">{rule.condition}</code>,
  },
  { name: "What follows", show: "hidden lg:table-cell", value: follows },
  { name: "Holds of", value: ({ holds }) => holds },
  { name: "Proposals", value: ({ waiting }) => waiting },
  { name: "Changed", show: "hidden sm:table-cell", value: ({ uses }) => uses },
  { name: "Last", show: "hidden sm:table-cell", value: ({ last_used }) => last_used ?? "", cell: ({ last_used }) => <Ago at={last_used} /> },
];

/** Rules: what they propose, and what they say. */
export function RulesPage() {
  const rules = useRules();
  const proposals = useProposals();
  const [running, setRunning] = useState(false);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <h1 className="mr-auto text-lg font-semibold">Rules</h1>
        {(rules.data ?? []).length > 0 && (
          <button type="button" className="btn btn-sm" onClick={() => { setRunning(true); }}>
            <Play className="size-4" aria-hidden /> Run now
          </button>
        )}
        <Link to="/rules/new" className="btn btn-primary btn-sm">
          <Plus className="size-4" aria-hidden /> Add
        </Link>
      </div>
      {running && <RunRules close={() => { setRunning(false); }} />}
      <Answered query={proposals} rows={3}>
        {(all) =>
          all.length > 0 && (
            <Section title={`Proposed (${all.length})`}>
              <Proposals all={all} />
            </Section>
          )
        }
      </Answered>
      <Section title="Rules">
        <Answered query={rules} rows={4}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="There are no rules yet">
                A rule says what follows of what a survey measured: a name, labels, a place in a rack, an image to install. It proposes,
                until you let it act by itself.
              </Empty>
            ) : (
              <Table label="Rules" rows={all} columns={COLUMNS} keyOf={({ name }) => name} />
            )
          }
        </Answered>
      </Section>
    </div>
  );
}
