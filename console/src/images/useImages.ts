import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { answer, api, done, type Edited, edited, type ImageDetail, type ImageRow } from "../api/client";
import { useDraft } from "../parts/useDraft";

/** All images. */
export function useImages() {
  return useQuery({ queryKey: ["images"], queryFn: async () => answer(await api.GET("/api/v1/images")) });
}

/** The images that machines can be armed with: those that read answers. */
export function useReaders(): ImageRow[] {
  const images = useImages();
  return (images.data ?? []).filter(({ kind, current }) => (kind === "installer" || kind === "live") && current.family !== "none");
}

/** One image. */
export function useImage(name: string) {
  const params = { params: { path: { name } } };
  return useQuery({
    queryKey: ["image", name],
    queryFn: async () => edited(await api.GET("/api/v1/images/{name}", params)),
  });
}

/** What the service does that takes longer than a moment, and has not ended. */
export function useWork() {
  const work = useQuery({ queryKey: ["work"], queryFn: async () => answer(await api.GET("/api/v1/work")) });
  return (work.data ?? []).filter((piece) => piece.ended == null);
}

/** Changes what the person at the machine reads of an image. */
export function useTitle(image: Edited<ImageDetail>) {
  const queries = useQueryClient();
  const draft = useDraft<ImageDetail, string>(image, (saved) => saved?.title ?? "");
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const [params, body] = [{ path: { name: image.name } }, { title: draft.draft }];
      return edited(await api.PUT("/api/v1/images/{name}/title", { params, headers: draft.headers(etag), body }));
    },
    onSuccess: async (saved) => {
      draft.take(saved);
      await queries.invalidateQueries();
    },
  });
  return { ...draft, save };
}

export type RevisionAction = "current" | "retire" | "restore" | "verify" | "remove";

/** What can be done to a revision. */
export function useRevisionAction(name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async ({ action, number }: { action: RevisionAction; number: number }) => {
      const params = { params: { path: { name, number } } };
      switch (action) {
        case "current":
          done(await api.PUT("/api/v1/images/{name}/current", { params: { path: { name } }, body: { number } }));
          break;
        case "retire":
          done(await api.POST("/api/v1/images/{name}/revisions/{number}/retire", params));
          break;
        case "restore":
          done(await api.POST("/api/v1/images/{name}/revisions/{number}/restore", params));
          break;
        case "verify":
          done(await api.POST("/api/v1/images/{name}/revisions/{number}/verify", params));
          break;
        case "remove":
          done(await api.DELETE("/api/v1/images/{name}/revisions/{number}", params));
          break;
      }
    },
    onSettled: () => queries.invalidateQueries(),
  });
}
