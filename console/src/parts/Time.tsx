import { ago, clock, exact, useNow } from "./time";

/** How long ago something was; the exact time when pointed at. */
export function Ago({ at }: { at: string | null | undefined }) {
  const now = useNow();
  if (!at) {
    return "–";
  }
  return (
    <time dateTime={at} title={exact(at)} className="whitespace-nowrap">
      {ago(at, now)}
    </time>
  );
}

/** When something was: the time today, date and time on another day; exactly when pointed at. */
export function When({ at }: { at: string | null | undefined }) {
  if (!at) {
    return "–";
  }
  return (
    <time dateTime={at} title={exact(at)}>
      {clock(at)}
    </time>
  );
}
