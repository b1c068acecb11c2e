import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { answer, api } from "../api/client";

/** Diagnoses are made anew at most so often while events come. */
const PAUSE_MS = 400;

/** The trace of a machine or newcomer, read again whenever something of it happens. */
export function useTrace(who: string) {
  const queries = useQueryClient();
  useEffect(() => {
    const source = new EventSource(`/api/v1/traces/${encodeURIComponent(who)}/events`);
    let timer: number | undefined;
    source.onmessage = () => {
      timer ??= window.setTimeout(() => {
        timer = undefined;
        void queries.invalidateQueries({ queryKey: ["trace", who] });
      }, PAUSE_MS);
    };
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [queries, who]);
  return useQuery({
    queryKey: ["trace", who],
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
    refetchInterval: 5000,
    queryFn: async () => answer(await api.GET("/api/v1/newcomers")),
  });
}
