import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { answer, api, type JobState } from "../api/client";

/** Jobs shown on a page. */
export const PAGE = 500;

/** Jobs, newest first. */
export function useJobs(states: JobState[], page: number) {
  return useQuery({
    queryKey: ["jobs", states, page],
    placeholderData: keepPreviousData,
    queryFn: async () => {
      const query = { ...(states.length > 0 && { state: states.join(",") }), limit: PAGE, offset: page * PAGE };
      return answer(await api.GET("/api/v1/jobs", { params: { query } }));
    },
  });
}

/** The jobs of one machine, newest first. */
export function useJobsOf(machine: string) {
  return useQuery({
    queryKey: ["jobs", "of", machine],
    queryFn: async () => answer(await api.GET("/api/v1/jobs", { params: { query: { machine, limit: PAGE } } })),
  });
}

/** One job, with everything that happened to it. */
export function useJob(number: number) {
  return useQuery({
    queryKey: ["job", number],
    queryFn: async () => answer(await api.GET("/api/v1/jobs/{number}", { params: { path: { number } } })),
  });
}
