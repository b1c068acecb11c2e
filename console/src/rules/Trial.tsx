import { Link } from "react-router";

import type { RuleTrial, RuleTrialRow } from "../api/client";
import { pageOf } from "../parts/who";
import { Effects, Failing, Kept } from "./Effects";

/** Rows that are drawn: what matters comes first. */
const DRAWN = 100;

const BLOCKED = "border-error";

function state(row: RuleTrialRow): [text: string, edge: string] {
  if (!row.holds) {
    return ["does not hold", "border-base-300 text-base-content/70"];
  }
  if (row.effects.some(({ obstacle }) => obstacle != null)) {
    return ["blocked", BLOCKED];
  }
  return row.effects.length > 0 ? ["changes", "border-accent"] : ["nothing to change", "border-success"];
}

/** What a rule would do to every machine that was surveyed, before it is saved. */
export function Trial({ trial }: { trial: RuleTrial }) {
  return (
    <>
      <p className="mb-2" role="status">
        {trial.surveyed === 1 ? "1 machine was" : `${trial.surveyed} machines were`} surveyed: it holds of <b>{trial.holds}</b>, would
        change <b>{trial.changes}</b>
        {trial.obstacles > 0 && (
          <>
            , and is <b className="text-error">blocked on {trial.obstacles}</b>
          </>
        )}
        .
      </p>
      <table className="w-full text-left" aria-label="What the rule would do">
        <thead>
          <tr className="border-b border-base-300 text-xs text-base-content/70">
            <th className="p-1.5 font-normal">Machine</th>
            <th className="p-1.5 font-normal">Rule</th>
            <th className="p-1.5 font-normal">What changes, or what fails</th>
          </tr>
        </thead>
        <tbody>
          {trial.rows.slice(0, DRAWN).map((row) => {
            const [text, edge] = state(row);
            return (
              <tr key={row.who} className="border-b border-base-200 align-top hover:bg-base-200">
                <td className="p-1.5">
                  <Link className="link-hover font-medium" to={pageOf(row.who)} title={row.summary}>
                    {row.who}
                  </Link>
                </td>
                <td className="p-1.5 whitespace-nowrap">
                  <span className={`inline-block border-l-4 pl-2 ${edge}`}>{text}</span>
                </td>
                <td className="p-1.5">
                  <Effects effects={row.effects} />
                  <Failing parts={row.failing} />
                  <Kept kept={row.kept} />
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {trial.surveyed > Math.min(trial.rows.length, DRAWN) && (
        <p className="p-1.5 text-base-content/75">
          {trial.surveyed - Math.min(trial.rows.length, DRAWN)} more are not shown: those that fail by the most parts.
        </p>
      )}
    </>
  );
}
