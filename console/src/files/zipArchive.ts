import { BlobReader, BlobWriter, configure, TextReader, ZipWriter } from "@zip.js/zip.js/index-native.js";
import type { Archive } from "./gathering";
import type { FileEntry } from "./hostFiles";

const kinds: Partial<Record<FileEntry["kind"], number>> = { file: 0o100000, folder: 0o040000, link: 0o120000 };
const EARLIEST = Date.UTC(1980, 0, 1);
const LATEST = Date.UTC(2107, 11, 31);

/** A ZIP (with ZIP64 where it is large) that keeps times and modes; links are kept as links. */
export function zipArchive(): Archive {
  // The browser packs by itself, beside the page; nothing more is loaded for it.
  configure({ useWebWorkers: false });
  const zip = new ZipWriter(new BlobWriter("application/zip"), { bufferedWrite: false, keepOrder: true });
  return {
    add: async (name, entry, content) => {
      const folder = entry.kind === "folder";
      const reader = content
        ? new BlobReader(content)
        : entry.kind === "link"
          ? new TextReader(entry.target?.text ?? "")
          : undefined;
      await zip.add(folder ? `${name}/` : name, reader, {
        directory: folder,
        level: entry.kind === "file" ? 1 : 0,
        // What ZIP can't say of times is left at its bounds.
        lastModDate: new Date(Math.min(LATEST, Math.max(EARLIEST, Date.parse(entry.changedAt)))),
        msDosCompatible: false,
        versionMadeBy: 0x0314,
        externalFileAttribute: (((kinds[entry.kind] ?? 0) | (entry.mode & 0o7777)) << 16) >>> 0,
      });
    },
    close: () => zip.close(),
  };
}
