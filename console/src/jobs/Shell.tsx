import { useEffect, useRef, useState } from "react";

import type { JobDetail, ShellWord } from "../api/client";
import { Section } from "../parts/Section";
import { download } from "../parts/download";
import { read, type Shown } from "./recording";
import { type Screen, screenIn } from "./terminal";

const BOX = "h-96 overflow-hidden rounded-box border border-base-300 bg-[#101b29] p-2";
/** No pause of a recording is played longer, in milliseconds. */
const LONGEST_PAUSE = 1000;

/** A shell: on this page while it is open, and its recording afterwards. */
export function Shell({ job }: { job: JobDetail }) {
  return (
    <Section title="Its terminal">
      {job.ended_at == null ? <Live key={job.number} job={job} /> : <Recorded job={job} />}
    </Section>
  );
}

/** The shell itself. */
function Live({ job }: { job: JobDetail }) {
  const box = useRef<HTMLDivElement>(null);
  const leave = useRef<HTMLButtonElement>(null);
  const [isAt, setIsAt] = useState(true);
  const [notice, setNotice] = useState("");
  const { number, machine } = job;
  useEffect(() => {
    if (!isAt || box.current === null) {
      return;
    }
    const screen = screenIn(box.current, `Terminal of ${machine}`, false);
    const { terminal } = screen;
    const place = `${window.location.origin.replace(/^http/, "ws")}/api/v1/jobs/${number}/shell?who=console`;
    const socket = new WebSocket(place);
    socket.binaryType = "arraybuffer";
    const say = (data: string | Uint8Array<ArrayBuffer>) => {
      if (socket.readyState === WebSocket.OPEN) {
        socket.send(data);
      }
    };
    const tellSize = () => {
      say(JSON.stringify({ columns: terminal.cols, rows: terminal.rows }));
    };
    socket.onopen = () => {
      setNotice("");
      tellSize();
      terminal.focus();
    };
    socket.onmessage = ({ data }: MessageEvent<string | ArrayBuffer>) => {
      if (typeof data === "string") {
        setNotice((JSON.parse(data) as ShellWord).text);
      } else {
        terminal.write(new Uint8Array(data));
      }
    };
    socket.onclose = ({ wasClean }) => {
      if (!wasClean) {
        setNotice("The connection to the service is lost: leave and come again.");
      }
    };
    terminal.onData((keys) => {
      say(new TextEncoder().encode(keys));
    });
    terminal.onResize(tellSize);
    // The keyboard leads out of the terminal, too, which takes Tab for itself (WCAG 2.2, 2.1.2).
    terminal.attachCustomKeyEventHandler((event) => {
      const isWayOut = event.ctrlKey && event.key === "]";
      if (isWayOut && event.type === "keydown") {
        leave.current?.focus();
      }
      return !isWayOut;
    });
    const watch = new ResizeObserver(screen.fit);
    watch.observe(box.current);
    return () => {
      watch.disconnect();
      socket.close();
      screen.dispose();
    };
  }, [isAt, number, machine]);
  return (
    <>
      {isAt && <div ref={box} className={BOX} />}
      <div className="mt-2 flex flex-wrap items-center gap-3">
        <button
          ref={leave}
          type="button"
          className="btn btn-sm"
          onClick={() => {
            setIsAt(!isAt);
          }}
        >
          {isAt ? "Leave it open" : "Come again"}
        </button>
        <span role="status" className="text-base-content/75">
          {notice === "" && isAt ? "Ctrl-] leads out of the terminal; exit ends it. Everything shown is recorded." : notice}
        </span>
      </div>
    </>
  );
}

/** What its screen showed: all of it at once, or played as it happened. */
function Recorded({ job }: { job: JobDetail }) {
  const box = useRef<HTMLDivElement>(null);
  const screen = useRef<Screen>(null);
  const [shown, setShown] = useState<Shown[]>();
  const [text, setText] = useState("");
  const [isPlaying, setIsPlaying] = useState(false);
  const [trouble, setTrouble] = useState("");
  const { number, machine } = job;
  useEffect(() => {
    const stop = new AbortController();
    fetch(`/api/v1/jobs/${number}/recording`, { signal: stop.signal })
      .then(async (answer) => {
        const recording = await answer.text();
        if (!answer.ok) {
          throw new Error(recording);
        }
        setText(recording);
        setShown(read(recording));
      })
      .catch((error: unknown) => {
        if (!stop.signal.aborted) {
          setTrouble(String(error));
        }
      });
    return () => {
      stop.abort();
    };
  }, [number]);
  const isEmpty = shown !== undefined && !shown.some(({ written }) => written !== undefined);
  useEffect(() => {
    if (box.current === null || shown === undefined || isEmpty) {
      return;
    }
    const made = screenIn(box.current, `Recording of the terminal of ${machine}`, true);
    screen.current = made;
    return () => {
      screen.current = null;
      made.dispose();
    };
  }, [shown, isEmpty, machine]);
  useEffect(() => {
    const terminal = screen.current?.terminal;
    if (terminal === undefined || shown === undefined) {
      return;
    }
    terminal.reset();
    const show = ({ written, size }: Shown) => {
      if (size !== undefined) {
        terminal.resize(size.columns, size.rows);
      }
      terminal.write(written ?? "");
    };
    if (!isPlaying) {
      shown.forEach(show);
      return;
    }
    let timer = 0;
    const from = (index: number) => {
      const one = shown[index];
      if (one === undefined) {
        setIsPlaying(false);
        return;
      }
      const pause = (one.after - (shown[index - 1]?.after ?? 0)) * 1000;
      timer = window.setTimeout(() => {
        show(one);
        from(index + 1);
      }, Math.min(pause, LONGEST_PAUSE));
    };
    from(0);
    return () => {
      window.clearTimeout(timer);
    };
  }, [shown, isPlaying, isEmpty, machine]);
  if (trouble !== "") {
    return <p role="alert">The recording cannot be read: {trouble}</p>;
  }
  if (isEmpty) {
    return <p className="text-base-content/75">Nothing was shown on it.</p>;
  }
  return (
    <>
      <div ref={box} className={`${BOX} overflow-x-auto`} />
      <div className="mt-2 flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-sm"
          disabled={shown === undefined}
          onClick={() => {
            setIsPlaying(!isPlaying);
          }}
        >
          {isPlaying ? "Show all of it" : "Play"}
        </button>
        <button
          type="button"
          className="btn btn-sm"
          disabled={shown === undefined}
          onClick={() => {
            download(`job-${number}.cast`, "application/x-asciicast", text);
          }}
        >
          Save the recording
        </button>
      </div>
    </>
  );
}
