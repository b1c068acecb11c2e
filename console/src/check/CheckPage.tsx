import { useQuery } from "@tanstack/react-query";

import { answer, api, type CheckReport, type Finding, type Severity } from "../api/client";
import { Prose } from "../parts/Prose";
import { Answered } from "../parts/States";
import { When } from "../parts/Time";

const LOOKS: Record<Severity, { heading: string; edge: string }> = {
  fault: { heading: "Problems: machines will not boot", edge: "border-error" },
  warning: { heading: "Warnings", edge: "border-accent" },
  note: { heading: "Notes", edge: "border-secondary" },
  good: { heading: "Passed", edge: "border-success" },
};

const ORDER = Object.keys(LOOKS) as Severity[];

export function CheckPage() {
  const check = useQuery({
    queryKey: ["check"],
    // Asks on the wire and takes seconds: run when somebody looks, and again when they ask.
    meta: { onDemand: true },
    staleTime: Infinity,
    gcTime: 0,
    queryFn: async () => answer(await api.POST("/api/v1/check")),
  });
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-4 flex flex-wrap items-center gap-4">
        <h1 className="text-lg font-semibold">Check</h1>
        <button
          type="button"
          className="btn btn-sm"
          disabled={check.isFetching}
          onClick={() => {
            void check.refetch();
          }}
        >
          {check.isFetching ? "Checking …" : "Check again"}
        </button>
        {check.data && (
          <span className="text-base-content/70">
            as of <When at={check.data.at} />, in {(check.data.took_ms / 1000).toFixed(1)} s
          </span>
        )}
      </div>
      {check.isPending && (
        <p className="mb-2">Checking: asking for other DHCP servers, and booting a test machine.</p>
      )}
      <Answered query={check}>{(report) => <Report report={report} />}</Answered>
    </div>
  );
}

function Report({ report }: { report: CheckReport }) {
  return ORDER.map((severity) => {
    const findings = report.findings.filter((finding) => finding.severity === severity);
    if (findings.length === 0) {
      return null;
    }
    if (severity === "good") {
      return <Well key={severity} findings={findings} />;
    }
    return (
      <section key={severity} className="mb-6 max-w-5xl">
        <h2 className="mb-2 font-semibold">
          {LOOKS[severity].heading} <span className="font-normal text-base-content/70">({findings.length})</span>
        </h2>
        <ul className="space-y-1.5">
          {findings.map((finding, index) => (
            <Found key={index} finding={finding} edge={LOOKS[severity].edge} />
          ))}
        </ul>
      </section>
    );
  });
}

/** What is well takes little room, and none of it is hidden. */
function Well({ findings }: { findings: Finding[] }) {
  return (
    <section className="max-w-5xl">
      <h2 className="mb-2 font-semibold">
        {LOOKS.good.heading} <span className="font-normal text-base-content/70">({findings.length})</span>
      </h2>
      <ul className={`border-l-4 pl-3 ${LOOKS.good.edge}`}>
        {findings.map((finding, index) => (
          <li key={index} className="grid grid-cols-[6.5rem_minmax(0,1fr)] gap-x-3">
            <span className="text-base-content/70">{finding.topic}</span>
            <span className="break-words">
              {finding.where}: <span className="text-base-content/80"><Prose text={finding.what} /></span>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Found({ finding, edge }: { finding: Finding; edge: string }) {
  return (
    <li className={`border-l-4 bg-base-200 px-3 py-1.5 ${edge}`}>
      <div className="flex flex-wrap gap-x-3">
        <span className="text-base-content/70">{finding.topic}</span>
        <span className="font-medium">{finding.where}</span>
        <span className="min-w-0 break-words"><Prose text={finding.what} /></span>
      </div>
      {finding.fix && (
        <p className="text-base-content/80">
          → <Prose text={finding.fix} />
        </p>
      )}
    </li>
  );
}
