import { CircleAlert } from "lucide-react";

import type { Diagnosis } from "../api/client";
import { Prose } from "../parts/Prose";

/** What stops a boot: what was seen, what it means, what to do. */
export function Diagnoses({ diagnoses }: { diagnoses: Diagnosis[] }) {
  return (
    <div className="space-y-3">
      {diagnoses.map((found) => (
        <div key={found.case} role="note" className="flex gap-3 border-l-4 border-error bg-base-200 p-3">
          <CircleAlert className="mt-0.5 size-5 shrink-0 text-error" aria-hidden />
          <div className="max-w-prose space-y-1">
            <p className="font-semibold">{found.seen}</p>
            <p>
              <Prose text={found.means} />
            </p>
            <p>
              <span className="font-medium">Do this:</span> <Prose text={found.fix} />
            </p>
          </div>
        </div>
      ))}
    </div>
  );
}
