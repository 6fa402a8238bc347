import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { sha256 } from "@noble/hashes/sha2.js";
import { droppedOf, foldersOf } from "./dropped";
import { freeName, modeOf, octal } from "./files";
import type { FileWord } from "./hostFiles";
import { dataRecord, MOST_BYTES, Records, wordRecord } from "./records";
import { type Sending, SendQueue } from "./sending";

const base64 = (bytes: Uint8Array) => btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));

const CHANGED = "2025-11-24T16:00:00Z";

/** A host behind a WebSocket: takes what is written, and answers as an agent does. */
class Host {
  static files = new Map<string, Uint8Array>();
  static parts = new Map<string, Uint8Array>();
  static lines: Host[] = [];
  static transfers: string[] = [];
  /** The line breaks after so many bytes, once. */
  static breakAfter: number | undefined;
  /** The line breaks when a file has taken its place, before that is said, once. */
  static losesWord = false;
  static refuses: string | undefined;

  static readonly OPEN = 1;
  readonly OPEN = 1;
  readyState = 1;
  bufferedAmount = 0;
  binaryType = "";
  onopen: (() => void) | undefined;
  onmessage: ((e: { data: unknown }) => void) | undefined;
  onclose: ((e: { reason: string }) => void) | undefined;
  onerror: (() => void) | undefined;
  #write: { path: string; bytes: number; version: string; from: number } | undefined;
  #data: number[] = [];
  #records = new Records(
    (text) => this.#hear(JSON.parse(text) as Record<string, never>),
    (bytes) => this.#take(bytes),
  );

  constructor() {
    Host.lines.push(this);
    setTimeout(() => this.onopen?.());
  }

  send(data: string | ArrayBuffer): void {
    if (typeof data !== "string" && this.readyState === 1) this.#records.take(data);
  }

  close(): void {
    if (this.readyState === 1) this.#keep();
    this.readyState = 3;
  }

  #say(word: FileWord): void {
    setTimeout(() => this.onmessage?.({ data: wordRecord(word) }));
  }

  #keep(): void {
    if (this.#write) Host.parts.set(`${this.#write.path} ${this.#write.version}`, Uint8Array.from(this.#data));
  }

  #hear(ask: { write?: never; part?: never; end?: never; look?: never; transfer?: never }): void {
    if (ask.transfer) {
      Host.transfers.push((ask.transfer as { text: string }).text);
      this.#say({ done: true });
    } else if (ask.look) {
      const content = Host.files.get((ask.look as { text: string }).text);
      this.#say(
        content
          ? { entry: { bytes: content.length, changedAt: CHANGED } as never, done: true }
          : { problem: "There is none.", done: true },
      );
    } else if (ask.part) {
      const { path, version } = ask.part as { path: { text: string }; version: string };
      this.#say({ from: Host.parts.get(`${path.text} ${version}`)?.length ?? 0, done: true });
    } else if (ask.write) {
      const { path, ...rest } = ask.write as { path: { text: string }; bytes: number; version: string; from: number };
      this.#write = { ...rest, path: path.text };
      this.#data = Array.from(Host.parts.get(`${path.text} ${rest.version}`)?.slice(0, rest.from) ?? []);
      if (Host.refuses) this.#say({ problem: Host.refuses, done: true });
    } else if (ask.end) {
      const { sha256: hash } = ask.end as { sha256: string | null };
      const [write, content] = [this.#write, Uint8Array.from(this.#data)];
      this.#write = undefined;
      if (!write || Host.refuses) return;
      if (hash === null) this.#say({ problem: "It could not be read to its end.", done: true });
      else if (hash !== base64(sha256(content)))
        this.#say({ problem: "It is not what was sent.", differs: true, done: true });
      else {
        Host.files.set(write.path, content);
        if (Host.losesWord) {
          Host.losesWord = false;
          this.readyState = 3;
          setTimeout(() => this.onclose?.({ reason: "" }));
        } else this.#say({ sha256: hash, done: true });
      }
    }
  }

  #take(bytes: Uint8Array): void {
    if (!this.#write) return;
    for (const b of bytes) this.#data.push(b);
    if (Host.breakAfter !== undefined && this.#data.length >= Host.breakAfter) {
      Host.breakAfter = undefined;
      this.#keep();
      this.readyState = 3;
      setTimeout(() => this.onclose?.({ reason: "" }));
    }
  }
}

const file = (name: string, content: Uint8Array<ArrayBuffer>) =>
  new File([content], name, { lastModified: Date.parse(CHANGED) });
const noise = (bytes: number, seed = 7) => Uint8Array.from({ length: bytes }, (_, n) => (n * seed + (n >> 8)) & 255);

describe("a queue of files", () => {
  beforeEach(() => {
    Host.files.clear();
    Host.parts.clear();
    Host.lines = [];
    Host.transfers = [];
    Host.breakAfter = undefined;
    Host.refuses = undefined;
    Host.losesWord = false;
    vi.stubGlobal("WebSocket", Host);
    vi.stubGlobal(
      "fetch",
      vi.fn((request: Request) =>
        Promise.resolve(
          Response.json(
            request.url.endsWith("/channels") ? { channelId: "1", path: "/channel", ticket: "t" } : { id: "session" },
          ),
        ),
      ),
    );
  });
  afterEach(() => vi.unstubAllGlobals());

  function queue() {
    const seen: Sending[][] = [];
    const made = new SendQueue(
      "host",
      { door: undefined, usesVault: false },
      (rows) => seen.push(rows),
      () => undefined,
    );
    const until = (test: (rows: Sending[]) => boolean) =>
      vi.waitFor(() => expect(test(seen.at(-1) ?? [])).toBe(true), 20_000);
    return { made, seen, until };
  }

  it("says once what belongs together, and again on another line", async () => {
    const { made, until } = queue();
    const below = (name: string) => ({
      file: file(name, noise(1000)),
      path: { text: `/srv/labels/${name}` },
      group: { text: "/srv/labels" },
    });
    made.add([below("a"), below("b"), { file: file("alone", noise(10)), path: { text: "/srv/alone" } }, below("c")]);
    await until((rows) => rows.length === 4 && rows.every((r) => r.state === "done"));
    expect(Host.transfers).toEqual(["/srv/labels"]);
    made.add([below("d")]);
    await until((rows) => rows.length === 5 && rows.every((r) => r.state === "done"));
    expect(Host.transfers).toEqual(["/srv/labels", "/srv/labels"]);
    expect(Host.lines.length).toBe(2);
  });

  it("brings them there as they were, one after the other on one line", async () => {
    const { made, until } = queue();
    const [one, two] = [noise(1000), noise(300_000)];
    made.add([
      { file: file("one", one), path: { text: "/one" } },
      { file: file("two", two), path: { text: "/two" } },
      { file: file("empty", noise(0)), path: { text: "/empty" } },
    ]);
    await until((rows) => rows.every((r) => r.state === "done"));
    expect([Host.files.get("/one"), Host.files.get("/two"), Host.files.get("/empty")]).toEqual([one, two, noise(0)]);
    expect(Host.lines.length).toBe(1);
  });

  it("goes on from what is there when the line breaks", async () => {
    const { made, until } = queue();
    const content = noise(3 << 20);
    Host.breakAfter = 2 << 20;
    made.add([{ file: file("large", content), path: { text: "/large" } }]);
    await until((rows) => rows[0]?.state === "done");
    expect(Host.files.get("/large")?.length).toBe(content.length);
    expect(base64(sha256(Host.files.get("/large") ?? noise(0)))).toBe(base64(sha256(content)));
    expect(Host.lines.length).toBe(2);
  }, 20_000);

  it("sends nothing again that is there though the word for it was lost", async () => {
    const { made, until } = queue();
    Host.losesWord = true;
    made.add([{ file: file("lost", noise(100)), path: { text: "/lost" } }]);
    await until((rows) => rows[0]?.state === "waiting");
    Host.refuses = "It would be written twice.";
    await until((rows) => rows[0]?.state === "done");
  }, 20_000);

  it("says why one can't be written and goes on with the next", async () => {
    const { made, until } = queue();
    Host.refuses = "There is no space left there.";
    made.add([{ file: file("full", noise(10)), path: { text: "/full" } }]);
    await until((rows) => rows[0]?.state === "failed");
    Host.refuses = undefined;
    made.add([{ file: file("next", noise(10)), path: { text: "/next" } }]);
    await until((rows) => rows[1]?.state === "done");
    expect(Host.files.has("/full")).toBe(false);
    made.resume(1);
    await until((rows) => rows.every((r) => r.state === "done"));
    made.clear();
    await until((rows) => rows.length === 0);
  });

  it("keeps an order that can be changed, and what is paused until it goes on", async () => {
    const { made, until } = queue();
    made.limit(1);
    made.add(["a", "b", "c"].map((name) => ({ file: file(name, noise(10)), path: { text: `/${name}` } })));
    made.first(3);
    made.pause(2);
    await until((rows) => rows.map((r) => r.name).join("") === "cab");
    made.limit(undefined);
    await until((rows) => rows.filter((r) => r.state === "done").length === 2);
    expect(Host.files.has("/b")).toBe(false);
    made.resume(2);
    await until((rows) => rows.every((r) => r.state === "done"));
    expect(Host.files.has("/b")).toBe(true);
  });

  it("stops one without leaving anything of it", async () => {
    const { made, until } = queue();
    made.limit(1);
    made.add([{ file: file("slow", noise(200_000)), path: { text: "/slow" } }]);
    await until((rows) => rows[0]?.state === "going" && rows[0].there > 0);
    made.stop(1);
    await until((rows) => rows[0]?.state === "stopped");
    await vi.waitFor(() => expect(Host.lines[0]?.readyState).toBe(3));
    expect([Host.files.size, Host.parts.size]).toEqual([0, 0]);
  });
});

describe("what was dropped", () => {
  const entry = (name: string, below?: FileSystemEntry[]): FileSystemEntry =>
    ({
      name,
      isFile: !below,
      file: (done: (f: File) => void) => done(new File(["x"], name)),
      createReader: () => {
        let left = below ?? [];
        return {
          readEntries: (done: (e: FileSystemEntry[]) => void) => {
            const some = left.slice(0, 2);
            left = left.slice(2);
            done(some);
          },
        };
      },
    }) as unknown as FileSystemEntry;

  it("is every file below, with its path, and folders that hold nothing", async () => {
    const tree = entry("recipes", [entry("a"), entry("b"), entry("deep", [entry("c")]), entry("empty", [])]);
    const transfer = {
      items: [tree, entry("plain")].map((e) => ({ kind: "file", webkitGetAsEntry: () => e })),
      files: [],
    } as unknown as DataTransfer;
    const found = await droppedOf(transfer);
    expect(found.filter((d) => d.file).map((d) => d.path.join("/"))).toEqual([
      "recipes/a",
      "recipes/b",
      "recipes/deep/c",
      "plain",
    ]);
    expect(foldersOf(found).map((f) => f.join("/"))).toEqual(["recipes", "recipes/deep", "recipes/empty"]);
  });
});

describe("names and modes", () => {
  it("are read and written", () => {
    expect(freeName("plan.svg", (n) => n === "plan (2).svg")).toBe("plan (3).svg");
    expect(freeName(".profile", () => false)).toBe(".profile (2)");
    expect(["0640", "755", "9", "0888", "1777", ""].map(modeOf)).toEqual([
      0o640,
      0o755,
      undefined,
      undefined,
      undefined,
      undefined,
    ]);
    expect(octal(0o4750)).toBe("0750");
  });

  it("go out as records that come in again", () => {
    const words: string[] = [];
    const data: number[] = [];
    const records = new Records(
      (w) => words.push(w),
      (b) => data.push(...b),
    );
    records.take(wordRecord({ look: { text: "/é" } }));
    records.take(dataRecord(noise(MOST_BYTES)));
    expect(JSON.parse(words[0] ?? "")).toEqual({ look: { text: "/é" } });
    expect(data.length).toBe(MOST_BYTES);
  });
});
