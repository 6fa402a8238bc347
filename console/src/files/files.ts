import type { FileEntry, FileName } from "./hostFiles";

const fromBase64 = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
const toBase64 = (bytes: Uint8Array) => btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));
const bytesOf = (name: FileName) => (name.bytes ? fromBase64(name.bytes) : new TextEncoder().encode(name.text));

/** A name in a folder. */
export function inFolder(folder: FileName, name: FileName): FileName {
  const text = `${folder.text.replace(/\/+$/, "")}/${name.text}`;
  if (!folder.bytes && !name.bytes) return { text };
  const parts = [bytesOf(folder), new Uint8Array([47]), bytesOf(name)];
  const bytes = parts.flatMap((p) => Array.from(p));
  return { text, bytes: toBase64(Uint8Array.from(bytes)) };
}

/** The folder that something lies in. */
export const folderOf = (path: FileName): FileName => wayTo(path).at(-2)?.path ?? { text: "/" };

/** Mode as it is written: "0640". */
export const octal = (mode: number) => (mode & 0o777).toString(8).padStart(4, "0");

/** "0640" or "640" as a number; undefined where it is none. */
export const modeOf = (text: string) => (/^0?[0-7]{3}$/.test(text.trim()) ? parseInt(text.trim(), 8) : undefined);

/** Another name for what comes beside something of that name: "plan (2).svg". */
export function freeName(name: string, taken: (name: string) => boolean): string {
  const dot = name.lastIndexOf(".");
  const [stem, extension] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ""];
  for (let number = 2; ; number++) {
    const other = `${stem} (${number})${extension}`;
    if (!taken(other)) return other;
  }
}

/** The folders on the way to a path, the root first, each with its path. */
export function wayTo(path: FileName): { name: string; path: FileName }[] {
  const root: FileName = { text: "/" };
  const way = [{ name: "/", path: root }];
  let at = root;
  for (const part of splitBytes(path)) {
    at = inFolder(at, part);
    way.push({ name: part.text, path: at });
  }
  return way;
}

/** The names in a path; the byte of a slash is never a part of another letter. */
function splitBytes(path: FileName): FileName[] {
  if (!path.bytes)
    return path.text
      .split("/")
      .filter((p) => p !== "")
      .map((text) => ({ text }));
  const parts: FileName[] = [];
  let part: number[] = [];
  for (const byte of [...fromBase64(path.bytes), 47]) {
    if (byte !== 47) {
      part.push(byte);
      continue;
    }
    if (part.length > 0) parts.push(nameOf(Uint8Array.from(part)));
    part = [];
  }
  return parts;
}

function nameOf(bytes: Uint8Array): FileName {
  try {
    return { text: new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(bytes) };
  } catch {
    return { text: new TextDecoder().decode(bytes), bytes: toBase64(bytes) };
  }
}

/** Kind and mode in ten letters, as for `ls` (POSIX.1-2017). */
export function modeText({ kind, mode }: Pick<FileEntry, "kind" | "mode">): string {
  const text = [{ file: "-", folder: "d", link: "l", pipe: "p", socket: "s", device: "c" }[kind]];
  for (let bit = 0; bit < 9; bit++) text.push(mode & (1 << (8 - bit)) ? "rwx".charAt(bit % 3) : "-");
  for (let special = 0; special < 3; special++) {
    if (!(mode & (0x800 >> special))) continue;
    const at = 3 * special + 3;
    const letter = special === 2 ? "t" : "s";
    text[at] = text[at] === "x" ? letter : letter.toUpperCase();
  }
  return text.join("");
}

export type FileOrder = "name" | "size" | "changed";

const order = new Intl.Collator("en", { numeric: true, sensitivity: "base" });

/** Entries that hold a text in their names, folders first, as they are to be seen. */
export function arranged(entries: FileEntry[], text: string, by: FileOrder, down: boolean): FileEntry[] {
  const wanted = text.toLowerCase();
  const shown = wanted ? entries.filter((e) => e.name.text.toLowerCase().includes(wanted)) : [...entries];
  const sign = down ? -1 : 1;
  const names = (a: FileEntry, b: FileEntry) =>
    order.compare(a.name.text, b.name.text) || (a.name.text < b.name.text ? -1 : 1);
  return shown.sort((a, b) => {
    const folders = Number(isFolder(b)) - Number(isFolder(a));
    if (folders !== 0) return folders;
    const first =
      by === "size" ? a.bytes - b.bytes : by === "changed" ? Date.parse(a.changedAt) - Date.parse(b.changedAt) : 0;
    return first === 0 ? (by === "name" ? sign : 1) * names(a, b) : sign * first;
  });
}

/** Whether one can go in there. */
export const isFolder = (entry: FileEntry) => entry.kind === "folder" || entry.targetKind === "folder";

/** Whether it has content that can be read. */
export const isFile = (entry: FileEntry) => entry.kind === "file" || entry.targetKind === "file";

const images: Record<string, string> = {
  png: "image/png",
  jpg: "image/jpeg",
  jpeg: "image/jpeg",
  gif: "image/gif",
  webp: "image/webp",
  svg: "image/svg+xml",
};

/** Of a picture that a browser shows: its kind. */
export const imageType = (name: string) => images[name.slice(name.lastIndexOf(".") + 1).toLowerCase()];

/** A text, or undefined where the bytes are none. A letter that was cut off at the end is left out. */
export function textOf(bytes: Uint8Array, whole: boolean): string | undefined {
  if (bytes.includes(0)) return undefined;
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes, { stream: !whole });
  } catch {
    return undefined;
  }
}

/** Whether a name is one of an archive that hosts pack and unpack. */
export const isArchive = (name: string) => /[^/]\.(zip|tar|tar\.gz|tgz)$/i.test(name);
