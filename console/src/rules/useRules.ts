import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { answer, api, edited, type RuleDraft } from "../api/client";

/** All rules. */
export function useRules() {
  return useQuery({ queryKey: ["rules"], queryFn: async () => answer(await api.GET("/api/v1/rules")) });
}

/** One rule. */
export function useRule(name: string) {
  return useQuery({
    queryKey: ["rules", name],
    retry: false,
    queryFn: async () => edited(await api.GET("/api/v1/rules/{name}", { params: { path: { name } } })),
  });
}

/** When a rule changed machines. */
export function useRuleUses(name: string) {
  return useQuery({
    queryKey: ["rules", name, "uses"],
    queryFn: async () => answer(await api.GET("/api/v1/rules/{name}/uses", { params: { path: { name } } })),
  });
}

/** What rules propose. */
export function useProposals() {
  return useQuery({ queryKey: ["proposals"], queryFn: async () => answer(await api.GET("/api/v1/proposals")) });
}

/** What rules say of a machine or a newcomer. */
export function useMachineRules(who: string) {
  return useQuery({
    queryKey: ["facts", who, "rules"],
    retry: false,
    queryFn: async () => answer(await api.GET("/api/v1/facts/{who}/rules", { params: { path: { who } } })),
  });
}

/** What a rule would do to every machine that was surveyed, if it were saved so. */
export function useTrial(name: string, rule: RuleDraft) {
  return useQuery({
    queryKey: ["rule-trial", name, rule],
    enabled: (rule.condition ?? "").trim() !== "",
    placeholderData: keepPreviousData,
    retry: false,
    // An unfinished rule has no name yet.
    queryFn: async () => answer(await api.POST("/api/v1/rules/try", { body: { name: name.trim() || "new-rule", rule } })),
  });
}
