import { useQuery } from "@tanstack/react-query";

import { answer, api, edited } from "../api/client";

/** All labels: those with a record, and those that machines have. */
export function useLabels() {
  return useQuery({ queryKey: ["labels"], queryFn: async () => answer(await api.GET("/api/v1/labels")) });
}

/** One label. */
export function useLabel(name: string) {
  return useQuery({
    queryKey: ["labels", name],
    retry: false,
    queryFn: async () => edited(await api.GET("/api/v1/labels/{name}", { params: { path: { name } } })),
  });
}
