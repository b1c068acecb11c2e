import { Check, Copy } from "lucide-react";
import { useState } from "react";

/** Characters of a digest that are shown. */
const SHOWN = 12;
/** How long the button says that it has copied. */
const SAID_MS = 1500;

/** The beginning of a digest, the whole of it when pointed at, and a button that copies it. */
export function Digest({ value }: { value: string | null | undefined }) {
  const [copied, setCopied] = useState(false);
  if (!value) {
    return "–";
  }
  return (
    <span className="inline-flex items-center gap-1">
      <code title={value}>{value.slice(0, SHOWN)}…</code>
      <button
        type="button"
        className="btn btn-ghost btn-xs btn-square"
        aria-label={copied ? "Copied" : "Copy the digest"}
        onClick={() => {
          void navigator.clipboard.writeText(value).then(() => {
            setCopied(true);
            window.setTimeout(() => {
              setCopied(false);
            }, SAID_MS);
          });
        }}
      >
        {copied ? <Check className="size-3.5" /> : <Copy className="size-3.5" />}
      </button>
    </span>
  );
}
