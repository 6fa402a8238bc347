import { useEffect, useMemo, useState } from "react";
import type { HostSummary } from "../api/types";
import { type Dropped, foldersOf } from "./dropped";
import { freeName, inFolder } from "./files";
import type { FileEntry, FileName, HostFiles } from "./hostFiles";
import { type Sending, type SendItem, SendQueue } from "./sending";
import type { ConflictWay } from "./SendConflict";
import type { FileChanges } from "./useFileChanges";

/** What was dropped, when some of it is there already. */
export interface Conflict {
  folder: FileName;
  names: string[];
  decide: (way: ConflictWay) => void;
}

/** Sends what is dropped or chosen to a folder of the host. */
export function useSending(host: HostSummary, files: HostFiles, changes: FileChanges, onArrived: () => void) {
  const [rows, setRows] = useState<Sending[]>([]);
  const [conflict, setConflict] = useState<Conflict>();
  const [problem, setProblem] = useState<string>();
  const { door, usesVault } = changes.proof;
  const queue = useMemo(
    () => new SendQueue(host.id, { door, usesVault }, setRows, onArrived),
    [host.id, door, usesVault], // eslint-disable-line react-hooks/exhaustive-deps -- told through a stable function
  );
  // What is still on its way when the panel goes, goes with it; whoever leaves the page is asked first.
  useEffect(() => () => queue.close(), [queue]);
  const busy = rows.some((r) => ["queued", "going", "waiting", "paused"].includes(r.state));
  useEffect(() => {
    if (!busy) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [busy]);

  const at = (folder: FileName, path: string[]) =>
    path.reduce<FileName>((above, text) => inFolder(above, { text }), folder);

  const send = async (folder: FileName, here: FileEntry[], dropped: Dropped[]) => {
    setProblem(undefined);
    try {
      const taken = await takenBelow(files, folder, here, dropped);
      const begin = async (way: ConflictWay) => {
        setConflict(undefined);
        for (const path of foldersOf(dropped)) await changes.change({ folder: at(folder, path) });
        const items: SendItem[] = [];
        for (const { path, file } of dropped) {
          if (!file) continue;
          const isThere = taken.has(path.join("/"));
          if (isThere && way === "leave") continue;
          const name = path.at(-1) ?? file.name;
          const beside = path.slice(0, -1);
          const named =
            isThere && way === "rename" ? freeName(name, (other) => taken.has([...beside, other].join("/"))) : name;
          items.push({
            file,
            path: at(folder, [...beside, named]),
            ...(isThere && way === "replace" ? { replaces: true } : {}),
            ...(path.length > 1 ? { group: at(folder, path.slice(0, 1)) } : {}),
          });
        }
        queue.add(items);
        onArrived();
      };
      const names = dropped.filter((d) => d.file && taken.has(d.path.join("/"))).map((d) => d.path.join("/"));
      if (names.length === 0) await begin("leave");
      else
        setConflict({
          folder,
          names,
          decide: (way) =>
            void begin(way).catch((e: unknown) => setProblem(e instanceof Error ? e.message : String(e))),
        });
    } catch (e) {
      setProblem(e instanceof Error ? e.message : String(e));
    }
  };
  return { rows, queue, conflict, leave: () => setConflict(undefined), problem, send };
}

/** What the host has below a folder under names that were dropped. */
async function takenBelow(
  files: HostFiles,
  folder: FileName,
  here: FileEntry[],
  dropped: Dropped[],
): Promise<Set<string>> {
  const taken = new Set(here.map((e) => e.name.text));
  const tops = new Set(dropped.filter((d) => d.path.length > 1).map((d) => d.path[0] ?? ""));
  for (const top of tops)
    if (here.some((e) => e.name.text === top && e.kind === "folder"))
      await files.walk(inFolder(folder, { text: top }), (entries) => {
        for (const e of entries) taken.add(`${top}/${e.name.text}`);
      });
  return taken;
}
