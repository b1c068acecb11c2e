import type { ReactNode } from "react";

/** A part of a page under its heading. */
export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mb-6">
      <h2 className="mb-2 border-b border-base-300 pb-1 font-semibold">{title}</h2>
      {children}
    </section>
  );
}
