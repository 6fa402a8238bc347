/** A file with its path below where it was dropped, or a folder that may hold nothing. */
export interface Dropped {
  /** Names from the outermost in. */
  path: string[];
  /** Undefined for a folder. */
  file?: File;
}

/** What was dropped: files, and folders with all below them. */
export async function droppedOf(transfer: DataTransfer): Promise<Dropped[]> {
  // All of them are taken at once: what is not is gone after the first wait.
  const entries = Array.from(transfer.items)
    .filter((i) => i.kind === "file")
    .map((i) => i.webkitGetAsEntry());
  const files = Array.from(transfer.files);
  if (entries.some((e) => !e)) return files.map((file) => ({ path: [file.name], file }));
  const found: Dropped[] = [];
  for (const entry of entries) if (entry) await add(entry, [], found);
  return found;
}

/** Files that were chosen; of a chosen folder, with their paths in it. */
export const chosenOf = (files: FileList): Dropped[] =>
  Array.from(files, (file) => ({
    path: file.webkitRelativePath ? file.webkitRelativePath.split("/") : [file.name],
    file,
  }));

async function add(entry: FileSystemEntry, above: string[], found: Dropped[]): Promise<void> {
  const path = [...above, entry.name];
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
    found.push({ path, file });
    return;
  }
  found.push({ path });
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  // A reader gives a hundred at a time, and none at the end.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (some.length === 0) return;
    for (const below of some) await add(below, path, found);
  }
}

/** The folders that files need, each before what it holds. */
export function foldersOf(dropped: Dropped[]): string[][] {
  const seen = new Map<string, string[]>();
  for (const { path, file } of dropped)
    for (let depth = 1; depth <= path.length - (file ? 1 : 0); depth++) {
      const folder = path.slice(0, depth);
      seen.set(folder.join("/"), folder);
    }
  return [...seen.values()].sort((a, b) => a.length - b.length);
}
