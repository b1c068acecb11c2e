import { X } from "lucide-react";
import { useState } from "react";

import { answer, api } from "../api/client";
import { Confirm } from "../parts/Confirm";

type Kind = "cancel" | "retry";

const TEXTS: Record<Kind, { title: string; text: string }> = {
  cancel: { title: "Cancel", text: "The machines start from their disks next time. What installers have done stays done." },
  retry: { title: "Arm again", text: "Each machine is armed with the same image and answers. Its disk is erased at its next network boot." },
};

/** What can be done to several installs at once: all of it, or none. */
export function SelectedInstalls({ numbers, clear }: { numbers: number[]; clear: () => void }) {
  const [asking, setAsking] = useState<Kind>();
  const count = numbers.length === 1 ? "1 install" : `${numbers.length} installs`;
  return (
    <div role="toolbar" aria-label="Selected installs" className="flex flex-wrap items-center gap-2 border-t border-base-300 py-2">
      <span className="font-semibold">{count} selected</span>
      {(Object.keys(TEXTS) as Kind[]).map((kind) => (
        <button
          key={kind}
          type="button"
          className="btn btn-sm"
          onClick={() => {
            setAsking(kind);
          }}
        >
          {TEXTS[kind].title}
        </button>
      ))}
      <button type="button" className="btn btn-ghost btn-sm btn-square ml-auto" aria-label="Select none" onClick={clear}>
        <X className="size-4" />
      </button>
      {asking && (
        <Confirm
          title={`${TEXTS[asking].title}: ${count}`}
          text={TEXTS[asking].text}
          action={TEXTS[asking].title}
          act={async () =>
            asking === "cancel"
              ? answer(await api.POST("/api/v1/installs/cancel", { body: { numbers } }))
              : answer(await api.POST("/api/v1/installs/retry", { body: { numbers } }))
          }
          close={(isDone) => {
            setAsking(undefined);
            if (isDone) {
              clear();
            }
          }}
        />
      )}
    </div>
  );
}
