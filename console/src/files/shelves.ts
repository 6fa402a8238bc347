import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { ShelfInfo } from "../api/types";
import { arranged } from "./files";
import type { FileEntry } from "./hostFiles";

export function useShelves(enabled = true) {
  return useQuery({
    queryKey: ["shelves"],
    queryFn: () => ask(api.GET("/api/v1/shelves")) as Promise<ShelfInfo[]>,
    enabled,
    staleTime: 0,
  });
}

export function useShelf(id: string) {
  return useQuery({
    queryKey: ["shelves", id],
    queryFn: () => ask(api.GET("/api/v1/shelves/{id}", { params: { path: { id } } })) as Promise<ShelfInfo>,
    retry: false,
    staleTime: 0,
  });
}

/** What lies in a folder of a shelf, folders first. */
export function useShelfEntries(id: string, path: string) {
  return useQuery({
    queryKey: ["shelves", id, "entries", path],
    queryFn: async () => {
      const page = await ask(api.GET("/api/v1/shelves/{id}/entries", { params: { path: { id }, query: { path } } }));
      const entries = page.items as FileEntry[];
      return { all: page.total ?? entries.length, entries: arranged(entries, "", "name", false) };
    },
    retry: false,
    staleTime: 0,
  });
}

/** An act on shelves; what pages show of them is read anew after it. */
export function useShelfAct<T, R>(act: (wish: T) => Promise<R>, onDone: (made: R) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: (made) => {
      onDone(made);
      return queries.invalidateQueries({ queryKey: ["shelves"], exact: true });
    },
  });
}

/** Where a file of a shelf can be had. */
export const contentOf = (shelf: ShelfInfo, path: string) =>
  `/api/v1/shelves/${shelf.id}/content?path=${encodeURIComponent(path)}`;

export const pathIn = (folder: string, name: string) => (folder === "/" ? `/${name}` : `${folder}/${name}`);

/** The folders that lead to a path, with it: "/a/b" is "/", "/a" and "/a/b". */
export function wayTo(path: string): { path: string; name: string }[] {
  const parts = path.split("/").filter(Boolean);
  return [
    { path: "/", name: "The shelf" },
    ...parts.map((name, n) => ({ path: `/${parts.slice(0, n + 1).join("/")}`, name })),
  ];
}
