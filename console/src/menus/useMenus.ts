import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { answer, api, edited, type Language, type MenuDraft } from "../api/client";
import { useRested } from "../parts/rested";

/** All menus. */
export function useMenus() {
  return useQuery({ queryKey: ["menus"], queryFn: async () => answer(await api.GET("/api/v1/menus")) });
}

/** One menu. */
export function useMenu(name: string) {
  return useQuery({
    queryKey: ["menu", name],
    retry: false,
    queryFn: async () => edited(await api.GET("/api/v1/menus/{name}", { params: { path: { name } } })),
  });
}

export interface Viewer {
  machine: string;
  architecture: string;
  language: Language | "";
}

/** What a machine would see of a menu that is being entered. */
export function usePreview(name: string, draft: MenuDraft, viewer: Viewer) {
  const body = useRested(
    JSON.stringify({
      draft,
      machine: viewer.machine || null,
      architecture: viewer.architecture || null,
      language: viewer.language || null,
    }),
  );
  return useQuery({
    queryKey: ["preview", name, body],
    retry: false,
    gcTime: 10_000,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      answer(
        await api.POST("/api/v1/menus/{name}/preview", {
          params: { path: { name } },
          body: JSON.parse(body) as { draft: MenuDraft },
        }),
      ),
  });
}
