import { api, ask } from "./client";
import type { ImportOutcome } from "./types";

/** Sends a file of the tree as it is; its name says whether it is JSON or CSV. */
export async function importTree(file: File, preview: boolean): Promise<ImportOutcome> {
  const text = await file.text();
  return ask(
    api.POST("/api/v1/estate/tree", {
      params: { query: { preview } },
      headers: { "Content-Type": file.name.toLowerCase().endsWith(".json") ? "application/json" : "text/csv" },
      body: text as never,
      bodySerializer: (body: unknown) => String(body),
    }),
  );
}
