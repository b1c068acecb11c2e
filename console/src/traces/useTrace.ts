import { useQuery } from "@tanstack/react-query";

import { answer, api } from "../api/client";
import { traceKey } from "../api/live";

/** The trace of a machine or newcomer, read again whenever something of it happens. */
export function useTrace(who: string) {
  return useQuery({
    queryKey: traceKey(who),
    // What is missing is noticed by time alone: "no menu was asked for" has no event.
    refetchInterval: 10_000,
    queryFn: async () => answer(await api.GET("/api/v1/traces/{who}", { params: { path: { who } } })),
  });
}

/** Two traces beside each other, once both are named. */
export function useComparison(who: string, other: string) {
  return useQuery({
    queryKey: ["comparison", who, other],
    enabled: other !== "",
    queryFn: async () =>
      answer(
        await api.GET("/api/v1/traces/{who}/comparison", { params: { path: { who }, query: { with: other } } }),
      ),
  });
}

/** Machines that nobody registered and that left a trace. */
export function useNewcomers() {
  return useQuery({
    queryKey: ["newcomers"],
    queryFn: async () => answer(await api.GET("/api/v1/newcomers")),
  });
}
