import type { ReactNode } from "react";

/** Preformatted text, scrolled where it is wider than the page, by the keyboard, too. */
export function Preformatted({ className = "", label, children }: { className?: string; label: string; children: ReactNode }) {
  return (
    // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls must be reached by the keyboard
    <pre tabIndex={0} aria-label={label} className={`overflow-auto ${className}`}>
      {children}
    </pre>
  );
}
