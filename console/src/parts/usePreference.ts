import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";

/** How the technician likes something, kept by the service and so the same in every browser. */
export function usePreference<T>(name: string, usual: T): [T, (value: T) => void] {
  const queries = useQueryClient();
  const key = ["preference", name];
  const kept = useQuery({
    queryKey: key,
    queryFn: async () =>
      ((await ask(
        api.GET("/api/v1/preferences/{name}", { params: { path: { name } }, parseAs: "json" }) as never,
      )) as T | null) ?? null,
    staleTime: Infinity,
  });
  const keep = useMutation({
    mutationFn: (value: T) => {
      queries.setQueryData(key, value);
      return ask(
        api.PUT("/api/v1/preferences/{name}", { params: { path: { name } }, body: value as Record<string, never> }),
      );
    },
  });
  return [kept.data ?? usual, keep.mutate];
}
