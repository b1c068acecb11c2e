import { useQuery } from "@tanstack/react-query";

import { answer, api } from "../api/client";

/** What somebody should know first. */
export function useOverview() {
  return useQuery({
    queryKey: ["overview"],
    queryFn: async () => answer(await api.GET("/api/v1/overview")),
  });
}
