import { describe, expect, it } from "vitest";
import { arranged, inFolder, modeText, textOf, wayTo } from "./files";
import type { FileEntry } from "./hostFiles";
import { Records } from "./records";

const record = (kind: number, bytes: number[]) => [kind, bytes.length & 255, bytes.length >> 8, 0, 0, ...bytes];
const entry = (text: string, more: Partial<FileEntry> = {}): FileEntry => ({
  name: { text },
  kind: "file",
  bytes: 0,
  mode: 0o644,
  owner: "root",
  group: "root",
  changedAt: "2026-11-20T05:00:00Z",
  ...more,
});

describe("records", () => {
  it("are found wherever messages are cut", () => {
    const long = Array.from({ length: 700 }, (_, n) => n & 255);
    const stream = [...record(1, [123, 125]), ...record(2, long), ...record(2, []), ...record(1, [91, 93])];
    for (const size of [1, 2, 3, 7, 100, stream.length]) {
      const words: string[] = [];
      const data: number[] = [];
      const records = new Records(
        (w) => words.push(w),
        (b) => data.push(...b),
      );
      for (let at = 0; at < stream.length; at += size)
        records.take(Uint8Array.from(stream.slice(at, at + size)).buffer);
      expect(words).toEqual(["{}", "[]"]);
      expect(data).toEqual(long);
    }
  });

  it("of no known kind are refused", () => {
    expect(() =>
      new Records(
        () => undefined,
        () => undefined,
      ).take(Uint8Array.from(record(9, [])).buffer),
    ).toThrow();
  });
});

describe("names", () => {
  it("are put together as bytes where they are no text", () => {
    expect(inFolder({ text: "/" }, { text: "srv" })).toEqual({ text: "/srv" });
    const odd = { text: "caf\ufffd", bytes: btoa("caf\u00e9") };
    const path = inFolder({ text: "/srv" }, odd);
    expect(atob(path.bytes ?? "")).toBe("/srv/caf\u00e9");
    expect(wayTo(path).map((s) => s.name)).toEqual(["/", "srv", "caf\ufffd"]);
    expect(wayTo(path)[2]?.path).toEqual(path);
    expect(wayTo(inFolder(path, { text: "in" }))[3]?.path.text).toBe("/srv/caf\ufffd/in");
    expect(wayTo({ text: "/var//log/" }).map((s) => s.path.text)).toEqual(["/", "/var", "/var/log"]);
  });
});

it("shows modes as people know them", () => {
  expect(modeText({ kind: "file", mode: 0o644 })).toBe("-rw-r--r--");
  expect(modeText({ kind: "folder", mode: 0o1777 })).toBe("drwxrwxrwt");
  expect(modeText({ kind: "file", mode: 0o4640 })).toBe("-rwSr-----");
});

it("puts folders first and keeps numbers in their order", () => {
  const all = [
    entry("tub-10", { bytes: 5 }),
    entry("tub-9", { bytes: 7 }),
    entry("zoo", { kind: "folder" }),
    entry("bin", { kind: "link", targetKind: "folder" }),
  ];
  expect(arranged(all, "", "name", false).map((e) => e.name.text)).toEqual(["bin", "zoo", "tub-9", "tub-10"]);
  expect(arranged(all, "", "name", true).map((e) => e.name.text)).toEqual(["zoo", "bin", "tub-10", "tub-9"]);
  expect(arranged(all, "TUB", "size", true).map((e) => e.name.text)).toEqual(["tub-9", "tub-10"]);
});

it("tells text from what is none", () => {
  const utf8 = new TextEncoder().encode("Käse");
  expect(textOf(utf8, true)).toBe("Käse");
  // Cut off within a letter: what is left of it is no fault of the file.
  expect(textOf(utf8.slice(0, 2), false)).toBe("K");
  expect(textOf(utf8.slice(0, 2), true)).toBeUndefined();
  expect(textOf(Uint8Array.from([65, 0]), true)).toBeUndefined();
});
