import { useState } from "react";

import type { SettingsDraft } from "../api/client";

/** The settings as they cross the API, for those who would rather write them. */
export function RawSettings({ draft, change }: { draft: SettingsDraft; change: (draft: SettingsDraft) => void }) {
  const [text, setText] = useState(() => JSON.stringify(draft, null, 2));
  const [wrong, setWrong] = useState("");
  return (
    <div>
      <textarea
        className="textarea h-[70vh] w-full font-mono text-xs"
        aria-label="Settings as JSON"
        spellCheck={false}
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          try {
            change(JSON.parse(event.target.value) as SettingsDraft);
            setWrong("");
          } catch (error) {
            setWrong(error instanceof Error ? error.message : String(error));
          }
        }}
      />
      {wrong && (
        <p role="alert" className="text-error">
          This is no JSON yet: {wrong}
        </p>
      )}
    </div>
  );
}
