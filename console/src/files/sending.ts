import { sha256 } from "@noble/hashes/sha2.js";
import type { Proof } from "../sessions/useProof";
import { type FileName, type FileWord, HostFiles, LineBroken } from "./hostFiles";
import { MOST_BYTES } from "./records";

/** A file that is to be sent. */
export interface SendItem {
  file: File;
  path: FileName;
  /** What is called so already goes to the trash. */
  replaces?: boolean;
  /** The folder that it was dropped with. */
  group?: FileName;
}

/** How far it is. */
export interface Sending {
  id: number;
  name: string;
  path: string;
  bytes: number;
  there: number;
  /** Bytes a second, lately. */
  rate: number;
  state: "queued" | "going" | "waiting" | "paused" | "done" | "failed" | "stopped";
  note?: string | undefined;
}

const SMALL = 1 << 20;
const SLICE = 16 * MOST_BYTES;
const MOST_WAITING = 4 << 20;
const PATIENCE = 10 * 60_000;

const base64 = (bytes: Uint8Array) => btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Which file it is: the same when it is chosen again, so that what was broken off is gone on from. */
export const versionOf = (file: File) => `${file.size.toString(16)}-${file.lastModified.toString(16)}`;

interface Row {
  item: SendItem;
  at: Sending;
  /** It was tried once, and arrived otherwise than it was sent. */
  again: boolean;
  /** Its end was sent: it may be there though nobody has said so. */
  ended: boolean;
}

/** Sends files to a host one after the other, over as many lines as it takes. */
export class SendQueue {
  #rows: Row[] = [];
  #files: HostFiles | undefined;
  /** What was said on this line to belong together. */
  #group: string | undefined;
  #running = false;
  #closed = false;
  #last = 0;
  #marks: { at: number; there: number }[] = [];
  #told = 0;
  #most: number | undefined;

  constructor(
    private readonly hostId: string,
    private readonly proof: Proof,
    private readonly tell: (rows: Sending[]) => void,
    /** Told when a file has taken its place. */
    private readonly arrived: () => void,
  ) {}

  add(items: SendItem[]): void {
    for (const item of items)
      this.#rows.push({
        item,
        again: false,
        ended: false,
        at: {
          id: ++this.#last,
          name: item.file.name,
          path: item.path.text,
          bytes: item.file.size,
          there: 0,
          rate: 0,
          state: "queued",
        },
      });
    this.#say();
    void this.#run();
  }

  /** It stays where it is until it goes on; the others go on. */
  pause(id: number): void {
    this.#leave(id, "paused", "Paused; what is there is kept.");
  }

  /** Nothing of it is kept. */
  stop(id: number): void {
    const row = this.#row(id);
    if (row?.at.state === "going") this.#files?.end(null);
    this.#leave(id, "stopped", "Stopped; nothing of it is kept.");
  }

  /** Goes on with one that is paused or has failed. */
  resume(id: number): void {
    this.#change(id, { state: "queued", note: undefined });
    void this.#run();
  }

  /** Before the others that wait. */
  first(id: number): void {
    const row = this.#row(id);
    if (!row) return;
    this.#rows = [row, ...this.#rows.filter((r) => r !== row)];
    this.#say();
  }

  /** Takes those away that have ended. */
  clear(): void {
    this.#rows = this.#rows.filter((r) => !["done", "stopped", "failed"].includes(r.at.state));
    this.#say();
  }

  /** Sends at most so many bytes a second; none for as many as there are. */
  limit(bytes: number | undefined): void {
    this.#most = bytes;
  }

  close(): void {
    this.#closed = true;
    this.#files?.close();
  }

  #row(id: number): Row | undefined {
    return this.#rows.find((r) => r.at.id === id);
  }

  #leave(id: number, state: "paused" | "stopped", note: string): void {
    const row = this.#row(id);
    if (!row || !["queued", "going", "waiting"].includes(row.at.state)) return;
    const going = row.at.state === "going";
    this.#change(id, { state, note, rate: 0 });
    // What is on its way is left with its line; the others get a new one.
    if (going && state === "paused") this.#files?.close();
  }

  async #run(): Promise<void> {
    if (this.#running) return;
    this.#running = true;
    let since = Date.now();
    let attempt = 0;
    for (let row = this.#next(); row && !this.#closed; row = this.#next()) {
      const before = row.at.there;
      try {
        if (!this.#files) this.#group = undefined;
        this.#files ??= new HostFiles(
          this.hostId,
          this.proof,
          { notice: () => undefined, over: () => (this.#files = undefined) },
          true,
        );
        await this.#send(row, this.#files);
        attempt = 0;
        since = Date.now();
      } catch (e) {
        this.#files?.close();
        this.#files = undefined;
        if (row.at.state !== "going") continue;
        if (row.at.there > before) [attempt, since] = [0, Date.now()];
        if (!(e instanceof LineBroken) || Date.now() - since > PATIENCE) {
          this.#change(row.at.id, { state: "failed", rate: 0, note: e instanceof Error ? e.message : String(e) });
          continue;
        }
        this.#change(row.at.id, {
          state: "waiting",
          rate: 0,
          note: `${e.message} Going on as soon as the host can be reached.`,
        });
        await pause(Math.min(20_000, 1000 * 2 ** attempt++));
      }
    }
    this.#running = false;
    this.#files?.close();
    this.#files = undefined;
  }

  #next(): Row | undefined {
    return this.#rows.find((r) => r.at.state === "waiting") ?? this.#rows.find((r) => r.at.state === "queued");
  }

  async #send(row: Row, files: HostFiles): Promise<void> {
    const { file, path, replaces } = row.item;
    const changedAt = new Date(file.lastModified).toISOString();
    this.#marks = [];
    this.#change(row.at.id, { state: "going", note: undefined, there: 0 });
    const { group } = row.item;
    if (group && group.text !== this.#group) {
      await files.transfer(group);
      this.#group = group.text;
    }
    // What is replaced may have been as large and as old: then it is sent again.
    if (row.ended && !replaces) {
      const there = await files.look(path).catch(() => undefined);
      if (there?.entry?.bytes === file.size && Date.parse(there.entry.changedAt) === file.lastModified) {
        this.#done(row);
        return;
      }
    }
    const from = file.size > SMALL && !row.again ? Math.min(file.size, await files.part(path, versionOf(file))) : 0;
    let answer: FileWord | undefined;
    let problem: Error | undefined;
    const answered = files
      .write({
        path,
        bytes: file.size,
        version: versionOf(file),
        from,
        changedAt,
        ...(replaces ? { replaces, keepsOld: true } : {}),
      })
      .then(
        (word) => (answer = word),
        (e: unknown) => (problem = e instanceof Error ? e : new Error(String(e))),
      );
    const hash = sha256.create();
    const over = () => Boolean(answer ?? problem) || row.at.state !== "going";
    const began = Date.now();
    let sent = 0;
    for (let at = 0; at < file.size && !over();) {
      const slice = new Uint8Array(await file.slice(at, at + SLICE).arrayBuffer());
      if (over()) break;
      if (slice.length === 0) throw new Error("The file became shorter while it was read. Choose it again.");
      hash.update(slice);
      for (let part = Math.max(0, from - at); part < slice.length; part += MOST_BYTES) {
        files.data(slice.subarray(part, part + MOST_BYTES));
        sent += Math.min(MOST_BYTES, slice.length - part);
      }
      at += slice.length;
      this.#moved(row, at);
      while (files.waiting > MOST_WAITING && !over()) await pause(10);
      while (this.#most && (1000 * sent) / this.#most > Date.now() - began && !over()) {
        await pause(50);
        this.#moved(row, at);
      }
    }
    if (row.at.state === "stopped") {
      // Its end has been said already.
      await answered;
      return;
    }
    if (row.at.state !== "going") throw new LineBroken("It was left.");
    if (!over()) {
      row.ended = true;
      files.end(base64(hash.digest()));
    } else files.end(null);
    await answered;
    if (problem && !(problem instanceof LineBroken)) row.ended = false;
    if (problem) throw problem as Error;
    this.#done(row);
  }

  #done(row: Row): void {
    this.#change(row.at.id, { state: "done", rate: 0, there: row.item.file.size, note: undefined });
    this.arrived();
  }

  #moved(row: Row, there: number): void {
    const now = Date.now();
    row.at = { ...row.at, there };
    if (now - this.#told < 200) return;
    this.#marks.push({ at: now, there });
    const first = this.#marks.find((m) => now - m.at <= 5000) ?? { at: now, there };
    this.#marks = this.#marks.slice(this.#marks.indexOf(first));
    this.#change(row.at.id, { rate: now > first.at ? (1000 * (there - first.there)) / (now - first.at) : 0 });
  }

  #change(id: number, more: Partial<Sending>): void {
    const row = this.#row(id);
    if (!row) return;
    row.at = { ...row.at, ...more };
    this.#say();
  }

  #say(): void {
    this.#told = Date.now();
    if (!this.#closed) this.tell(this.#rows.map((r) => r.at));
  }
}
