import { ArrowLeft } from "lucide-react";
import { Link, useParams } from "react-router";

import { MachineRules } from "../rules/MachineRules";
import { FactsPanel } from "./FactsPanel";

/** What a survey measured of a newcomer; a machine's page has it as a part. */
export function FactsPage() {
  const { who = "" } = useParams();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/newcomers" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Newcomers
      </Link>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="font-mono text-lg font-semibold">{who}</h1>
        <Link className="btn btn-sm" to={`/traces/${encodeURIComponent(who)}`}>
          Trace
        </Link>
      </div>
      <FactsPanel who={who} />
      <h2 className="mt-6 mb-2 text-base font-semibold">Rules</h2>
      <MachineRules who={who} />
    </div>
  );
}
