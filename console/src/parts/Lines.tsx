import { useEffect, useRef } from "react";

import { Section } from "./Section";

/** Lines that something writes, each with its time. They stay at their end, unless somebody reads further up. */
export function Lines({ title, label, lines }: { title: string; label: string; lines: { at: string; line: string }[] }) {
  const box = useRef<HTMLDivElement>(null);
  const isAtEnd = useRef(true);
  const count = lines.length;
  useEffect(() => {
    if (box.current && isAtEnd.current) {
      box.current.scrollTop = box.current.scrollHeight;
    }
  }, [count]);
  if (count === 0) {
    return null;
  }
  return (
    <Section title={title}>
      <div
        ref={box}
        // A box that scrolls is reached by the keyboard (WCAG 2.2, 2.1.1).
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex
        tabIndex={0}
        role="log"
        aria-label={label}
        className="max-h-80 overflow-auto border-l-4 border-base-300 bg-base-200 p-2 font-mono text-xs"
        onScroll={({ currentTarget: { scrollTop, clientHeight, scrollHeight } }) => {
          isAtEnd.current = scrollTop + clientHeight >= scrollHeight - 8;
        }}
      >
        {lines.map((line, index) => (
          <div key={index} className="grid grid-cols-[4.5rem_minmax(0,1fr)] gap-2">
            <span className="text-base-content/70">{new Date(line.at).toLocaleTimeString("en-GB")}</span>
            <span className="break-words whitespace-pre-wrap">{line.line}</span>
          </div>
        ))}
      </div>
    </Section>
  );
}
