import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { answer, api, edited, type SettingsDraft } from "../api/client";
import { useRested } from "../parts/rested";

/** All answers and other layers. */
export function useAllAnswers() {
  return useQuery({ queryKey: ["answers"], queryFn: async () => answer(await api.GET("/api/v1/answers")) });
}

/** What is wrong with any pair of answers and image. */
export function useLint() {
  return useQuery({
    queryKey: ["lint"],
    // Machines and images change it too, and no event says so: it is looked at anew at each visit.
    staleTime: 0,
    queryFn: async () => answer(await api.GET("/api/v1/answer-lint")),
  });
}

/** One layer's settings. */
export function useAnswers(name: string) {
  return useQuery({
    queryKey: ["answers", name],
    retry: false,
    queryFn: async () => edited(await api.GET("/api/v1/answers/{name}", { params: { path: { name } } })),
  });
}

/** Every version that a layer ever had. */
export function useVersions(name: string) {
  return useQuery({
    queryKey: ["answers", name, "versions"],
    retry: false,
    queryFn: async () => answer(await api.GET("/api/v1/answers/{name}/versions", { params: { path: { name } } })),
  });
}

/** What is looked at. */
export interface Looking {
  machine: string;
  image: string;
}

/** The file that settings come to; those that are saved if no draft is given. */
export function useAnswersPreview(name: string, draft: SettingsDraft | undefined, looking: Looking, enabled = true) {
  const body = useRested(
    JSON.stringify({ draft, machine: looking.machine || undefined, image: looking.image || undefined }),
  );
  return useQuery({
    queryKey: ["answers", name, "preview", body],
    enabled,
    retry: false,
    gcTime: 10_000,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      answer(
        await api.POST("/api/v1/answers/{name}/preview", {
          params: { path: { name } },
          body: JSON.parse(body) as { draft?: SettingsDraft },
        }),
      ),
  });
}

/** What is held against each other: versions, as settings or as the files of machines. */
export interface Sides {
  from: number;
  to: number;
  machine?: string;
  other?: string;
}

/** Two versions of a layer, or what two machines get, held against each other. */
export function useComparison(name: string, sides: Sides, enabled: boolean) {
  return useQuery({
    queryKey: ["answers", name, "compare", sides],
    enabled,
    retry: false,
    queryFn: async () =>
      answer(
        await api.GET("/api/v1/answers/{name}/compare", { params: { path: { name }, query: sides } }),
      ),
  });
}
