import { useQuery } from "@tanstack/react-query";

import { answer, api, edited } from "../api/client";

/** How often what changes without an event is read again: leases come and go. */
const AGAIN_MS = 5000;

/** All subnets. */
export function useSubnets() {
  return useQuery({
    queryKey: ["subnets"],
    refetchInterval: AGAIN_MS,
    queryFn: async () => answer(await api.GET("/api/v1/subnets")),
  });
}

/** One subnet with all that its page shows. */
export function useSubnet(name: string) {
  const params = { params: { path: { name } } };
  const subnet = useQuery({
    queryKey: ["subnet", name],
    refetchInterval: AGAIN_MS,
    queryFn: async () => edited(await api.GET("/api/v1/subnets/{name}", params)),
  });
  const picture = useQuery({
    queryKey: ["picture", name],
    refetchInterval: AGAIN_MS,
    queryFn: async () => answer(await api.GET("/api/v1/subnets/{name}/picture", params)),
  });
  const advice = useQuery({
    queryKey: ["advice", name],
    queryFn: async () => answer(await api.GET("/api/v1/subnets/{name}/advice", params)),
  });
  return { subnet, picture, advice };
}
