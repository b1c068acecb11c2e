import { useQuery } from "@tanstack/react-query";

import { CallError, type Problem } from "../api/client";

/** How often it is read again: leases come and go without an event. */
const AGAIN_MS = 5000;

/** What is written, for which machines. */
export interface Wanted {
  /** The hosts file, the inventory, or the domain or network of a zone. */
  what: "hosts" | "inventory" | { zone: string };
  label: string;
  nameServer: string;
}

/** Where it is had, by a browser as by any other program. */
export function address({ what, label, nameServer }: Wanted): string {
  const query = new URLSearchParams();
  if (typeof what === "object") {
    query.set("of", what.zone);
    if (nameServer.trim() !== "") {
      query.set("name_server", nameServer.trim());
    }
  }
  if (label.trim() !== "") {
    query.set("label", label.trim());
  }
  const path = typeof what === "object" ? "zone" : what;
  return `/api/v1/exports/${path}${query.size > 0 ? `?${query.toString()}` : ""}`;
}

/** What the file is called when it is saved. */
export function fileName({ what }: Wanted): string {
  return typeof what === "object" ? `${what.zone.replace("/", "-")}.zone` : what === "hosts" ? "hosts" : "inventory.json";
}

/** The file as text. */
export function useExport(wanted: Wanted) {
  const url = address(wanted);
  return useQuery({
    queryKey: ["export", url],
    refetchInterval: AGAIN_MS,
    retry: false,
    queryFn: async () => {
      const response = await fetch(url);
      if (!response.ok) {
        throw new CallError((await response.json().catch(() => undefined)) as Problem | undefined);
      }
      const text = await response.text();
      return wanted.what === "inventory" ? JSON.stringify(JSON.parse(text), null, 2) : text;
    },
  });
}
