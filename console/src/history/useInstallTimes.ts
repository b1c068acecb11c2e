import { useQuery } from "@tanstack/react-query";

import { answer, api } from "../api/client";

/** Installs that charts are drawn of: the latest. */
export const DRAWN_INSTALLS = 500;

/** The latest installs, for what is drawn of them one by one. */
export function useInstallTimes() {
  return useQuery({
    queryKey: ["history", "installs"],
    queryFn: async () => answer(await api.GET("/api/v1/installs", { params: { query: { limit: DRAWN_INSTALLS } } })),
  });
}
