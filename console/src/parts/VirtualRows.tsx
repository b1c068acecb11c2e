import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, type RefObject, useEffect, useRef } from "react";

import { hold, release } from "./hold";

/** Rows drawn beyond the visible ones, so that scrolling shows no gaps. */
const OVERSCAN = 12;

/**
 * A list of any length of which only what is seen is drawn. The arrow keys go from row to row; each row holds a
 * link marked `data-row`.
 */
export function VirtualRows(props: {
  label: string;
  count: number;
  height: number;
  head: ReactNode;
  row: (index: number) => ReactNode;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  // The library keeps functions of its own that the compiler must not memoise; nothing here relies on that.
  // eslint-disable-next-line react-hooks/incompatible-library
  const virtual = useVirtualizer({
    count: props.count,
    getScrollElement: () => scroller.current,
    estimateSize: () => props.height,
    overscan: OVERSCAN,
  });
  useHold(scroller);
  return (
    // The keys move the focus between the links inside; the list itself takes no focus.
    // eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions
    <div
      ref={scroller}
      role="table"
      aria-label={props.label}
      aria-rowcount={props.count + 1}
      onKeyDown={moveFocus}
      className="min-h-0 flex-1 overflow-auto"
    >
      <div role="rowgroup" className="sticky top-0 z-1 border-b border-base-300 bg-base-100">
        {props.head}
      </div>
      <div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => (
          <div
            key={item.key}
            role="row"
            aria-rowindex={item.index + 2}
            className="absolute inset-x-0 border-b border-base-200 hover:bg-base-200"
            style={{ height: item.size, transform: `translateY(${item.start}px)` }}
          >
            {props.row(item.index)}
          </div>
        ))}
      </div>
    </div>
  );
}

/** Holds the lists' order while the pointer or the focus is in this one. */
function useHold(list: RefObject<HTMLDivElement | null>) {
  useEffect(() => {
    const element = list.current;
    if (!element) {
      return;
    }
    const inside = new Set<"pointer" | "focus">();
    const enter = (what: "pointer" | "focus") => () => {
      if (inside.size === 0) {
        hold();
      }
      inside.add(what);
    };
    const leave = (what: "pointer" | "focus") => () => {
      if (inside.delete(what) && inside.size === 0) {
        release();
      }
    };
    const listeners: [string, () => void][] = [
      ["pointerenter", enter("pointer")],
      ["pointerleave", leave("pointer")],
      ["focusin", enter("focus")],
      ["focusout", leave("focus")],
    ];
    listeners.forEach(([name, listener]) => {
      element.addEventListener(name, listener);
    });
    return () => {
      listeners.forEach(([name, listener]) => {
        element.removeEventListener(name, listener);
      });
      if (inside.size > 0) {
        release();
      }
    };
  }, [list]);
}

function moveFocus(event: KeyboardEvent<HTMLDivElement>) {
  const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
  if (step === 0) {
    return;
  }
  const links = [...event.currentTarget.querySelectorAll<HTMLElement>("a[data-row]")];
  const at = links.findIndex((link) => link === document.activeElement);
  const next = links[at + step];
  if (next) {
    event.preventDefault();
    next.focus();
    next.scrollIntoView({ block: "nearest" });
  }
}
