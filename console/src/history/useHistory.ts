import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { answer, api, type HostHistory, type RateReport } from "../api/client";

export type GroupBy = "image" | "revision" | "subnet" | "label";

/** Which host has what. */
export function useHosts(behind: boolean) {
  return useQuery({
    queryKey: ["history", "hosts", behind],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      // A table is only what is asked for by `format`.
      answer(await api.GET("/api/v1/history/hosts", { params: { query: { ...(behind && { behind }) } } })) as HostHistory,
  });
}

/** How installs went. */
export function useRates(by: GroupBy, since: string) {
  return useQuery({
    queryKey: ["history", "rates", by, since],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      answer(await api.GET("/api/v1/history/rates", { params: { query: { by, ...(since && { since }) } } })) as RateReport,
  });
}

/** Where the table of hosts is had. */
export function hostsAddress(behind: boolean): string {
  return `/api/v1/history/hosts?format=csv${behind ? "&behind=true" : ""}`;
}

/** Where the table of rates is had. */
export function ratesAddress(by: GroupBy, since: string): string {
  return `/api/v1/history/rates?format=csv&by=${by}${since ? `&since=${since}` : ""}`;
}
