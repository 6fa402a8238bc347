import { sha256 } from "@noble/hashes/sha2.js";
import { LineBroken } from "./hostFiles";

const BLOCK = 4 << 20;
const PATIENCE = 10 * 60_000;
const zeros = new Uint8Array(64 * 1024);

/** What has come of a file so far. */
export class Arrived {
  /** Whole blocks; the browser lays large ones on its disk. */
  #blocks: Blob[] = [];
  #open: Uint8Array<ArrayBuffer>[] = [];
  #openBytes = 0;
  #hash = sha256.create();
  bytes = 0;

  take(bytes: Uint8Array<ArrayBuffer>): void {
    this.#hash.update(bytes);
    this.#open.push(bytes);
    this.#openBytes += bytes.length;
    this.bytes += bytes.length;
    if (this.#openBytes >= BLOCK) {
      this.#blocks.push(new Blob(this.#open));
      this.#open = [];
      this.#openBytes = 0;
    }
  }

  /** So many zeros, which are not sent. */
  takeZeros(count: number): void {
    for (let left = count; left > 0; left -= zeros.length) this.take(zeros.slice(0, Math.min(left, zeros.length)));
  }

  /** The whole of it, if it is what the host has read. @param read the SHA-256 of that, in base64 */
  whole(read: string | undefined): Blob {
    const hash = btoa(Array.from(this.#hash.digest(), (b) => String.fromCharCode(b)).join(""));
    if (hash !== read) throw new Error("It did not arrive as the host has read it: the hashes differ. Fetch it again.");
    return new Blob([...this.#blocks, ...this.#open]);
  }
}

/**
 * Does something over as many lines to a host as it takes: a broken one is taken up again, for ten minutes in which nothing comes.
 *
 * @param once what is done over one line
 * @param come how much has come by now
 * @param waits told why it waits
 */
export async function overLines<T>(
  once: () => Promise<T>,
  come: () => number,
  waits: (why: string) => void,
  stopped: () => boolean,
): Promise<T> {
  let since = Date.now();
  for (let attempt = 0; ; attempt++) {
    const before = come();
    try {
      return await once();
    } catch (e) {
      if (come() > before) [attempt, since] = [0, Date.now()];
      if (stopped() || !(e instanceof LineBroken) || Date.now() - since > PATIENCE) throw e;
      waits(`${e.message} Going on as soon as the host can be reached.`);
      await new Promise((resolve) => setTimeout(resolve, Math.min(20_000, 1000 * 2 ** attempt)));
      if (stopped()) throw e;
    }
  }
}

/** How fast something comes: bytes a second over the last five. */
export class Pace {
  #marks: { at: number; here: number }[] = [];

  rate(here: number, now = Date.now()): number {
    this.#marks.push({ at: now, here });
    const first = this.#marks.find((m) => now - m.at <= 5000) ?? { at: now, here };
    this.#marks = this.#marks.slice(this.#marks.indexOf(first));
    return now > first.at ? (1000 * (here - first.here)) / (now - first.at) : 0;
  }
}
