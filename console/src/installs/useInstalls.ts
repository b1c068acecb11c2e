import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { answer, api, type InstallState } from "../api/client";

/** Installs shown on a page. */
export const PAGE = 200;

/** Installs, newest first. */
export function useInstalls(states: InstallState[], number: number) {
  return useQuery({
    queryKey: ["installs", states, number],
    placeholderData: keepPreviousData,
    queryFn: async () => {
      const query = {
        ...(states.length > 0 && { state: states.join(",") }),
        limit: PAGE,
        offset: number * PAGE,
      };
      return answer(await api.GET("/api/v1/installs", { params: { query } }));
    },
  });
}

/** The installs of one machine, newest first. */
export function useInstallsOf(machine: string) {
  return useQuery({
    queryKey: ["installs", "of", machine],
    queryFn: async () => answer(await api.GET("/api/v1/installs", { params: { query: { machine, limit: PAGE } } })),
  });
}

/** One install, with everything that was seen of it. */
export function useInstall(number: number) {
  return useQuery({
    queryKey: ["install", number],
    queryFn: async () => answer(await api.GET("/api/v1/installs/{number}", { params: { path: { number } } })),
  });
}
