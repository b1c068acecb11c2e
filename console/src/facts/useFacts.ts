import { useQuery } from "@tanstack/react-query";

import { answer, api, type FactsView } from "../api/client";

/** What a survey measured: the latest, or the one of a boot. */
export function useFacts(who: string, boot: string | null) {
  return useQuery({
    queryKey: ["facts", who, boot ?? "latest"],
    retry: false,
    queryFn: async () => {
      const read =
        boot == null
          ? answer(await api.GET("/api/v1/facts/{who}", { params: { path: { who } } }))
          : answer(await api.GET("/api/v1/facts/{who}/surveys/{boot}", { params: { path: { who, boot } } }));
      return read as FactsView;
    },
  });
}

/** Every survey, the latest first. */
export function useSurveys(who: string) {
  return useQuery({
    queryKey: ["surveys", who],
    queryFn: async () => answer(await api.GET("/api/v1/facts/{who}/surveys", { params: { path: { who } } })),
  });
}

/** In what another machine's hardware differs. */
export function useFactsComparison(who: string, other: string) {
  return useQuery({
    queryKey: ["facts", who, "against", other],
    enabled: other !== "",
    retry: false,
    queryFn: async () =>
      answer(
        await api.GET("/api/v1/facts/{who}/comparison", { params: { path: { who }, query: { with: other } } }),
      ),
  });
}
