import { useQuery } from "@tanstack/react-query";

import { answer, api } from "../api/client";

/** What stands in each rack. */
export function useRacks() {
  return useQuery({ queryKey: ["racks"], queryFn: async () => answer(await api.GET("/api/v1/racks")) });
}

/** Where every known port of a switch is. */
export function useLocations() {
  return useQuery({ queryKey: ["locations"], queryFn: async () => answer(await api.GET("/api/v1/locations")) });
}
