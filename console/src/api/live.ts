import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { onHold, whenReleased } from "../parts/hold";
import type { InstallList, InstallRow, JobDetail, JobList, JobRow, LiveEvent, MachineList, MachineRow, Overview, Work } from "./client";

export type Connection = "connecting" | "live" | "lost";

/** What events touch is read again at most so often, however much moves. */
const READ_PAUSE_MS = 500;
/** What is made from the whole record is read so often at most: that is long in a big hall. */
const RECORD_PAUSE_MS = 5000;

/** The overview is read so often at most. */
const OVERVIEW_PAUSE_MS = 1000;

/**
 * Follows the event stream: rows change at once, what else they touch soon after. Gives the state of the connection.
 *
 * Only a page that is seen holds a stream: a browser opens few connections to one service, and pages in other tabs, or
 * left behind in the history, would take all of them.
 */
export function useLive(): Connection {
  const queries = useQueryClient();
  const [connection, setConnection] = useState<Connection>("connecting");
  useEffect(() => {
    let source: EventSource | undefined;
    const readAgain = pausing(queries, READ_PAUSE_MS);
    const readRecord = pausing(queries, RECORD_PAUSE_MS);
    const readOverview = pausing(queries, OVERVIEW_PAUSE_MS);
    const open = () => {
      if (source !== undefined || document.hidden) {
        return;
      }
      source = new EventSource("/api/v1/events");
      source.onopen = () => {
        setConnection("live");
        // What happened while there was no connection is not told again.
        readAgain.later();
      };
      source.onerror = () => {
        setConnection("lost");
      };
      source.onmessage = (message: MessageEvent<string>) => {
        const event = JSON.parse(message.data) as LiveEvent;
        take(queries, event, readAgain.later);
        if (event.kind === "install") {
          readRecord.later("history");
        }
        if (event.kind !== "log" && event.kind !== "job-log" && event.kind !== "work" && !isProgress(event)) {
          readOverview.later("overview");
        }
      };
    };
    const close = () => {
      source?.close();
      source = undefined;
      // Whoever does not see the page needs no reading; all of it is read once it is seen again.
      for (const reading of [readAgain, readRecord, readOverview]) {
        reading.stop();
      }
      setConnection("connecting");
    };
    const follow = () => {
      if (document.hidden) {
        close();
      } else {
        open();
      }
    };
    open();
    document.addEventListener("visibilitychange", follow);
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", open);
    const stopHolding = onHold(() => {
      holdStill(queries);
    });
    return () => {
      document.removeEventListener("visibilitychange", follow);
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", open);
      close();
      stopHolding();
    };
  }, [queries]);
  return connection;
}

/** Breaks off the reading of lists that are drawn already: what comes now would move rows from under a hand. */
function holdStill(queries: QueryClient) {
  const running = queries.getQueryCache().findAll({
    fetchStatus: "fetching",
    predicate: ({ queryKey, state }) => LISTS.has(String(queryKey[0])) && state.data !== undefined,
  });
  for (const { queryKey } of running) {
    void queries.cancelQueries({ queryKey, exact: true });
    whenReleased(() => void queries.invalidateQueries({ queryKey, exact: true }));
  }
}

/** The lists whose rows change their places. */
const LISTS = new Set(["machines", "installs", "jobs", "newcomers", "images", "proposals"]);

/** What a query is kept by: a list by one word, one thing of it by two. */
type Key = (string | number)[];

function take(queries: QueryClient, event: LiveEvent, later: (...key: Key) => void) {
  switch (event.kind) {
    case "machine":
      queries.setQueriesData<MachineList>({ queryKey: ["machines"] }, (list) => withMachine(list, event.machine));
      later("machine", event.machine.name);
      later("machines");
      later("racks");
      later("facts", event.machine.name);
      later("surveys", event.machine.name);
      // A trace may be open by the machine's name or by an address of it.
      for (const who of [event.machine.name, ...event.machine.macs]) {
        later(...traceKey(who));
      }
      later("comparison");
      break;
    case "newcomer":
      later("newcomers");
      later("racks");
      later("facts", event.mac);
      later("surveys", event.mac);
      later(...traceKey(event.mac));
      later("comparison");
      break;
    case "install":
      queries.setQueriesData<InstallList>({ queryKey: ["installs"] }, (list) => withInstall(list, event.install));
      later("install", event.install.number);
      later("installs");
      break;
    case "job":
      queries.setQueriesData<JobList>({ queryKey: ["jobs"] }, (list) => withJob(list, event.job));
      queries.setQueryData<JobDetail>(["job", event.job.number], (job) => job && { ...job, ...event.job });
      queries.setQueryData<Overview>(["overview"], (overview) => overview && { ...overview, jobs: withRow(overview.jobs, event.job) });
      if (!isProgress(event)) {
        later("job", event.job.number);
        later("jobs");
      }
      break;
    case "job-log":
      queries.setQueryData<JobDetail>(["job", event.job], (job) => job && withLines(job, event.first, event.lines));
      break;
    case "log":
      later("install", event.install);
      break;
    case "delivery":
      later("webhooks");
      later("deliveries");
      break;
    case "gone":
      later("machines");
      break;
    case "subnet":
      // Its reservations are shown with the machines that have them.
      later("machine");
      later("subnet", event.name);
      later("picture", event.name);
      later("reservations", event.name);
      later("subnets");
      break;
    case "loader":
      later("loaders");
      break;
    case "menu":
      later("menu", event.name);
      later("menus");
      break;
    case "label":
      later("labels");
      break;
    case "settings":
      later("settings");
      break;
    case "answers":
      later("answers");
      break;
    case "image":
      later("image", event.name);
      later("images");
      break;
    case "rule":
      later("rules");
      later("rule-trial");
      later("facts");
      break;
    case "proposals":
      later("proposals");
      later("rules");
      break;
    case "locations":
      later("locations");
      later("racks");
      break;
    case "work":
      queries.setQueryData<Work[]>(["work"], (all) => withWork(all, event.work));
      break;
    case "lagged":
      later();
      break;
  }
}

/** What the trace of a machine or newcomer is kept by: names and addresses are the same in any case. */
export function traceKey(who: string): string[] {
  return ["trace", who.toLowerCase()];
}

function withWork(all: Work[] | undefined, work: Work): Work[] {
  return [...(all ?? []).filter((old) => old.id !== work.id), work];
}

function withMachine(list: MachineList | undefined, row: MachineRow) {
  return list && { ...list, machines: list.machines.map((old) => (old.name === row.name ? { ...row, columns: old.columns ?? [] } : old)) };
}

function withInstall(list: InstallList | undefined, row: InstallRow) {
  return list && { ...list, installs: list.installs.map((old) => (old.number === row.number ? row : old)) };
}

function withJob(list: JobList | undefined, row: JobRow) {
  return list && { ...list, jobs: withRow(list.jobs, row) };
}

function withRow(jobs: JobRow[], row: JobRow) {
  return jobs.map((old) => (old.number === row.number ? row : old));
}

/** Most of what is told of a job that runs is how far it is, which is in its row. */
function isProgress(event: LiveEvent) {
  return event.kind === "job" && event.job.state === "running" && event.job.progress != null;
}

/** Lines that were told before are not told again. */
function withLines(job: JobDetail, first: number, lines: JobDetail["log"]) {
  const next = lines.slice(Math.max(0, job.log_next - first));
  return { ...job, log: [...job.log, ...next], log_next: Math.max(job.log_next, first + lines.length) };
}

/**
 * Gathers what is to be read again and reads it once a pause: a reading that every event began anew would, while much
 * moves, never come to its end. The empty key stands for everything, but for what is only read when somebody asks.
 */
function pausing(queries: QueryClient, pause: number) {
  const waiting = new Map<string, Key>();
  let timer: number | undefined;
  return {
    later: (...key: Key) => {
      waiting.set(key.join("\n"), key);
      timer ??= window.setTimeout(() => {
        timer = undefined;
        const keys = [...waiting.values()];
        waiting.clear();
        const read = (lists: boolean) => {
          for (const queryKey of keys) {
            void queries.invalidateQueries({
              queryKey,
              predicate: ({ queryKey: [first], meta }) => LISTS.has(String(first)) === lists && meta?.onDemand !== true,
            });
          }
        };
        read(false);
        whenReleased(() => {
          read(true);
        });
      }, pause);
    },
    stop: () => {
      window.clearTimeout(timer);
      timer = undefined;
      waiting.clear();
    },
  };
}
