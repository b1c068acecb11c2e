import { Anchor } from "lucide-react";
import { Link } from "react-router";

import type { Attention, AttentionKind } from "../api/client";
import { Ago } from "../parts/Time";

/** Where each kind is resolved, and what the button there says. */
function target(one: Attention): [path: string, name: string] {
  const install = `/installs/${one.install ?? ""}`;
  const targets: Record<AttentionKind, [string, string]> = {
    recording: ["/check", "Check"],
    failed: [install, "Open the install"],
    stalled: [`/machines/${one.subject}?tab=trace`, "Open the trace"],
    question: [install, "Answer"],
    "burn-in": [`/jobs/${one.job ?? ""}`, "Open the job"],
    disk: [`/machines/${one.subject}?tab=facts`, "Open its facts"],
    differs: [install, "Compare"],
    image: [`/images/${one.subject}`, "Open the image"],
    refused: [install, "Open the install"],
    webhook: ["/webhooks", "Open webhooks"],
    proposals: ["/rules", "Accept or decline"],
    newcomers: ["/newcomers", "Adopt"],
    "set-up": one.subject === "subnet" ? ["/new-subnet", "Add a subnet"] : ["/loaders", "Add a loader"],
  };
  return targets[one.kind];
}

const URGENT = new Set<AttentionKind>(["recording", "failed", "stalled", "refused", "image", "burn-in", "disk"]);

/** What needs attention, each with the button that leads to its resolution. */
export function AttentionList({ all, total }: { all: Attention[]; total: number }) {
  if (all.length === 0) {
    return (
      <p className="flex items-center gap-3 bg-base-200 p-4">
        <Anchor className="size-5 text-success" aria-hidden /> Nothing needs attention.
      </p>
    );
  }
  return (
    <>
      <ul className="space-y-1.5" aria-label="Needs attention">
        {all.map((one) => {
          const [path, name] = target(one);
          const isMachine = one.install != null || one.job != null || one.kind === "disk";
          return (
            <li
              key={`${one.kind} ${one.subject} ${one.install ?? ""}`}
              className={`flex flex-wrap items-center gap-x-4 gap-y-1 border-l-4 bg-base-200 py-1.5 pr-2 pl-3 ${
                URGENT.has(one.kind) ? "border-error" : "border-accent"
              }`}
            >
              <div className="min-w-0 flex-1 basis-72">
                <div className="flex flex-wrap items-baseline gap-x-2">
                  {isMachine ? (
                    <Link to={`/machines/${one.subject}`} className="link-hover font-semibold">
                      {one.subject}
                    </Link>
                  ) : (
                    <span className="font-semibold">{one.subject}</span>
                  )}
                  <span className="break-words">{one.what}</span>
                </div>
                <div className="text-base-content/75">
                  {one.next} {one.at != null && <Ago at={one.at} />}
                </div>
              </div>
              <Link to={path} className="btn btn-sm border-base-300 bg-base-100">
                {name}
              </Link>
            </li>
          );
        })}
      </ul>
      {total > all.length && <p className="mt-2 text-base-content/75">And {total - all.length} more.</p>}
    </>
  );
}
