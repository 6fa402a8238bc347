import { sha256 } from "@noble/hashes/sha2.js";
import type { Proof } from "../sessions/useProof";
import { type FileName, HostFiles, LineBroken } from "./hostFiles";

/** How far a file is that is fetched. */
export interface Fetching {
  bytes: number;
  here: number;
  /** Bytes a second, lately. */
  rate: number;
  state: "going" | "waiting" | "done" | "failed" | "stopped";
  note?: string;
}

const BLOCK = 4 << 20;
const PATIENCE = 10 * 60_000;
const zeros = new Uint8Array(64 * 1024);

/** Fetches a file into the browser, over as many lines as it takes, and hands it on once it is what the host has read. */
export class FileFetch {
  #files: HostFiles | undefined;
  #stopped = false;
  /** Whole blocks; the browser lays large ones on its disk. */
  #blocks: Blob[] = [];
  #open: Uint8Array<ArrayBuffer>[] = [];
  #openBytes = 0;
  #hash = sha256.create();
  #version: string | undefined;
  #marks: { at: number; here: number }[] = [];
  #told = 0;
  #at: Fetching = { bytes: 0, here: 0, rate: 0, state: "going" };

  constructor(
    private readonly hostId: string,
    private readonly proof: Proof,
    private readonly path: FileName,
    private readonly tell: (at: Fetching) => void,
    private readonly whole: (content: Blob) => void,
  ) {
    void this.#run();
  }

  stop(): void {
    if (this.#at.state !== "going" && this.#at.state !== "waiting") return;
    this.#stopped = true;
    this.#files?.close();
    this.#forget();
    this.#say({ state: "stopped", note: "Stopped; nothing of it is kept." });
  }

  async #run(): Promise<void> {
    let since = Date.now();
    for (let attempt = 0; !this.#stopped; attempt++) {
      const before = this.#at.here;
      try {
        await this.#once();
        return;
      } catch (e) {
        if (this.#stopped) return;
        if (this.#at.here > before) [attempt, since] = [0, Date.now()];
        if (!(e instanceof LineBroken) || Date.now() - since > PATIENCE) {
          this.#forget();
          this.#say({ state: "failed", note: e instanceof Error ? e.message : String(e) });
          return;
        }
        this.#say({ state: "waiting", rate: 0, note: `${e.message} Going on as soon as the host can be reached.` });
        await new Promise((resolve) => setTimeout(resolve, Math.min(20_000, 1000 * 2 ** attempt)));
      }
    }
  }

  async #once(): Promise<void> {
    const files = new HostFiles(this.hostId, this.proof, {
      notice: (note) => this.#say({ note }),
      over: () => undefined,
    });
    this.#files = files;
    try {
      const end = await files.read(
        this.path,
        { from: this.#at.here, version: this.#version },
        (word) => {
          if (word.entry) {
            if (word.from !== this.#at.here) this.#forget();
            this.#version = word.entry.version;
            this.#say({ bytes: word.entry.bytes, state: "going", note: undefined });
          }
          for (let left = word.zeros ?? 0; left > 0; left -= zeros.length)
            this.#take(zeros.slice(0, Math.min(left, zeros.length)));
        },
        (bytes) => this.#take(bytes),
      );
      const hash = btoa(Array.from(this.#hash.digest(), (b) => String.fromCharCode(b)).join(""));
      if (hash !== end.sha256)
        throw new Error("It did not arrive as the host has read it: the hashes differ. Fetch it again.");
      this.whole(new Blob([...this.#blocks, ...this.#open]));
      this.#forget(this.#at.here);
      this.#say({
        state: "done",
        rate: 0,
        note: end.changed ? "It changed while it was read; what is here is what was read." : undefined,
      });
    } finally {
      files.close();
    }
  }

  #take(bytes: Uint8Array<ArrayBuffer>): void {
    this.#hash.update(bytes);
    this.#open.push(bytes);
    this.#openBytes += bytes.length;
    if (this.#openBytes >= BLOCK) {
      this.#blocks.push(new Blob(this.#open));
      this.#open = [];
      this.#openBytes = 0;
    }
    this.#at = { ...this.#at, here: this.#at.here + bytes.length };
    const now = Date.now();
    if (now - this.#told < 200) return;
    this.#marks.push({ at: now, here: this.#at.here });
    const first = this.#marks.find((m) => now - m.at <= 5000) ?? { at: now, here: this.#at.here };
    this.#marks = this.#marks.slice(this.#marks.indexOf(first));
    this.#say({ rate: now > first.at ? (1000 * (this.#at.here - first.here)) / (now - first.at) : 0 });
  }

  #forget(here = 0): void {
    this.#blocks = [];
    this.#open = [];
    this.#openBytes = 0;
    this.#hash = sha256.create();
    this.#at = { ...this.#at, here };
  }

  #say(more: Partial<Record<keyof Fetching, unknown>>): void {
    this.#told = Date.now();
    this.#at = { ...this.#at, ...(more as Partial<Fetching>) };
    this.tell(this.#at);
  }
}
