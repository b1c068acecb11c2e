import { Link } from "react-router";

import type { MachineRules as Said, RuleUseView, VerdictView } from "../api/client";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { When } from "../parts/Time";
import { Effects, Failing, Kept } from "./Effects";
import { useMachineRules } from "./useRules";

/** What rules say of a machine or a newcomer: those that hold, those that do not and why, what they gave. */
export function MachineRules({ who }: { who: string }) {
  const rules = useMachineRules(who);
  return <Answered query={rules} rows={4}>{(said) => <Panel said={said} />}</Answered>;
}

const VERDICTS: Column<VerdictView>[] = [
  {
    name: "Rule",
    value: ({ rule }) => rule,
    cell: ({ rule }) => <Link className="link-hover font-medium whitespace-nowrap" to={`/rules/${encodeURIComponent(rule)}`}>{rule}</Link>,
  },
  { name: "Mode", show: "hidden sm:table-cell", value: ({ mode }) => mode },
  {
    name: "Condition",
    value: ({ holds }) => (holds ? "holds" : "does not hold"),
    cell: ({ holds }) => (
      <span className={`inline-block border-l-4 pl-2 whitespace-nowrap ${holds ? "border-success" : "border-base-300 text-base-content/70"}`}>
        {holds ? "holds" : "does not hold"}
      </span>
    ),
  },
  { name: "What fails", value: ({ failing }) => failing.map(({ part }) => part).join(" "), cell: ({ failing }) => <Failing parts={failing} /> },
];

const USES: Column<RuleUseView>[] = [
  { name: "When", value: ({ at }) => at, cell: ({ at }) => <span className="whitespace-nowrap"><When at={at} /></span> },
  { name: "By rule", value: ({ rule }) => rule, cell: ({ rule }) => <span className="whitespace-nowrap">{rule}</span> },
  { name: "Changed", value: ({ changes }) => changes.join(", ") },
  { name: "Accepted by", show: "hidden sm:table-cell", value: ({ by }) => by ?? "–" },
];

function Panel({ said }: { said: Said }) {
  if (said.rules.length === 0) {
    return (
      <p className="text-base-content/75">
        There are no <Link className="link" to="/rules">rules</Link> yet.
      </p>
    );
  }
  return (
    <>
      {(said.effects.length > 0 || said.kept.length > 0) && (
        <Section title="What they would change">
          <Effects effects={said.effects} byRule />
          <Kept kept={said.kept} />
          {said.lacks_name && <p className="text-base-content/75">No rule gives it a name: adopt it first.</p>}
          {said.effects.length > 0 && (
            <p className="mt-1">
              <Link className="link" to="/rules">Accept or decline it</Link>
            </p>
          )}
        </Section>
      )}
      <Section title="Which hold">
        <Table label="Rules" rows={said.rules} columns={VERDICTS} keyOf={({ rule }) => rule} />
      </Section>
      {said.uses.length > 0 && (
        <Section title="What they gave it">
          <Table label="What rules gave it" rows={said.uses} columns={USES} keyOf={({ at, rule }) => `${at} ${rule}`} />
        </Section>
      )}
    </>
  );
}
