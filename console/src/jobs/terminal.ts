import { FitAddon } from "@xterm/addon-fit";
import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";

/** Lines that can be scrolled back to. */
const SCROLLBACK = 5000;

/** A terminal in a box of the page, as large as the box. */
export interface Screen {
  terminal: Terminal;
  /** Fits it to the box again. */
  fit: () => void;
  dispose: () => void;
}

/** Puts a terminal into a box. */
export function screenIn(box: HTMLElement, label: string, isRead: boolean): Screen {
  const terminal = new Terminal({
    fontFamily: "ui-monospace, monospace",
    fontSize: 13,
    scrollback: SCROLLBACK,
    disableStdin: isRead,
    cursorBlink: !isRead,
    // The bridge by night, also by day: what runs on machines has chosen its colours for a dark screen.
    theme: { background: "#101b29", foreground: "#dfe6ee", cursor: "#f0a04b", selectionBackground: "#3b5573" },
  });
  const fitting = new FitAddon();
  terminal.loadAddon(fitting);
  terminal.open(box);
  fitting.fit();
  terminal.textarea?.setAttribute("aria-label", label);
  return {
    terminal,
    fit: () => {
      fitting.fit();
    },
    dispose: () => {
      terminal.dispose();
    },
  };
}
