import type { Proof } from "../sessions/useProof";
import { Arrived, overLines, Pace } from "./arrived";
import { type FileName, HostFiles } from "./hostFiles";

/** How far something is that is fetched. */
export interface Fetching {
  bytes: number;
  here: number;
  /** Bytes a second, lately. */
  rate: number;
  state: "going" | "waiting" | "done" | "failed" | "stopped";
  note?: string | undefined;
  /** What could not be fetched of many, and why. */
  problems?: { host: string; text: string }[];
}

/** Told at most so often how far it is. */
export const TELL_MS = 200;

/** Fetches a file into the browser, over as many lines as it takes, and hands it on once it is what the host has read. */
export class FileFetch {
  #files: HostFiles | undefined;
  #stopped = false;
  #come = new Arrived();
  #version: string | undefined;
  readonly #pace = new Pace();
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
    this.#come = new Arrived();
    this.#say({ state: "stopped", here: 0, note: "Stopped; nothing of it is kept." });
  }

  async #run(): Promise<void> {
    try {
      await overLines(
        () => this.#once(),
        () => this.#come.bytes,
        (note) => this.#say({ state: "waiting", rate: 0, note }),
        () => this.#stopped,
      );
    } catch (e) {
      if (this.#stopped) return;
      this.#come = new Arrived();
      this.#say({ state: "failed", here: 0, note: e instanceof Error ? e.message : String(e) });
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
        { from: this.#come.bytes, version: this.#version },
        (word) => {
          if (word.entry) {
            if (word.from !== this.#come.bytes) this.#come = new Arrived();
            this.#version = word.entry.version;
            this.#say({ bytes: word.entry.bytes, here: this.#come.bytes, state: "going", note: undefined });
          }
          this.#come.takeZeros(word.zeros ?? 0);
          this.#further();
        },
        (bytes) => {
          this.#come.take(bytes);
          this.#further();
        },
      );
      this.whole(this.#come.whole(end.sha256));
      this.#say({
        state: "done",
        rate: 0,
        here: this.#come.bytes,
        note: end.changed ? "It changed while it was read; what is here is what was read." : undefined,
      });
      this.#come = new Arrived();
    } finally {
      files.close();
    }
  }

  #further(): void {
    if (Date.now() - this.#told < TELL_MS) return;
    this.#say({ here: this.#come.bytes, rate: this.#pace.rate(this.#come.bytes) });
  }

  #say(more: Partial<Fetching>): void {
    this.#told = Date.now();
    this.#at = { ...this.#at, ...more };
    this.tell(this.#at);
  }
}
