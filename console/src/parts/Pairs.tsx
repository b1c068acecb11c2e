import type { ReactNode } from "react";

/** Names and values below each other. */
export function Pairs({ pairs }: { pairs: [string, ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[7.5rem_minmax(0,1fr)] gap-x-4 gap-y-1">
      {pairs.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-base-content/70">{name}</dt>
          <dd className="min-w-0 break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
