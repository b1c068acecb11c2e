import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { whenReleased } from "../parts/hold";
import type { InstallList, InstallRow, LiveEvent, MachineList, MachineRow } from "./client";

export type Connection = "connecting" | "live" | "lost";

/** Lists are read again at most so often, however much moves: their order and counts may lag by it. */
const LIST_PAUSE_MS = 500;

/** Follows the event stream: rows change at once, lists soon after. Gives how the connection stands. */
export function useLive(): Connection {
  const queries = useQueryClient();
  const [connection, setConnection] = useState<Connection>("connecting");
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    const lists = pausing(queries);
    source.onopen = () => {
      setConnection("live");
      // What happened while there was no connection is not told again.
      void queries.invalidateQueries();
    };
    source.onerror = () => {
      setConnection("lost");
    };
    source.onmessage = (message: MessageEvent<string>) => {
      take(queries, JSON.parse(message.data) as LiveEvent, (key) => {
        lists.later(key);
      });
    };
    return () => {
      source.close();
      lists.stop();
    };
  }, [queries]);
  return connection;
}

function take(queries: QueryClient, event: LiveEvent, later: (key: string) => void) {
  switch (event.kind) {
    case "machine":
      queries.setQueriesData<MachineList>({ queryKey: ["machines"] }, (list) => withMachine(list, event.machine));
      void queries.invalidateQueries({ queryKey: ["machine", event.machine.name] });
      later("machines");
      break;
    case "install":
      queries.setQueriesData<InstallList>({ queryKey: ["installs"] }, (list) => withInstall(list, event.install));
      void queries.invalidateQueries({ queryKey: ["install", event.install.number] });
      later("installs");
      break;
    case "gone":
      later("machines");
      break;
    case "lagged":
      void queries.invalidateQueries();
      break;
  }
}

function withMachine(list: MachineList | undefined, row: MachineRow) {
  return list && { ...list, machines: list.machines.map((old) => (old.name === row.name ? row : old)) };
}

function withInstall(list: InstallList | undefined, row: InstallRow) {
  return list && { ...list, installs: list.installs.map((old) => (old.number === row.number ? row : old)) };
}

/** Gathers what is to be read again and reads it once a pause. */
function pausing(queries: QueryClient) {
  const waiting = new Set<string>();
  let timer: number | undefined;
  return {
    later(key: string) {
      waiting.add(key);
      timer ??= window.setTimeout(() => {
        timer = undefined;
        const keys = [...waiting];
        waiting.clear();
        whenReleased(() => {
          for (const key of keys) {
            void queries.invalidateQueries({ queryKey: [key] });
          }
        });
      }, LIST_PAUSE_MS);
    },
    stop() {
      window.clearTimeout(timer);
    },
  };
}
