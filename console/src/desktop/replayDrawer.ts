import type { Painter } from "./painter";
import { type Cursor, RfbReader, type RfbRest } from "./rfb";
import { Stills } from "./stills";
import type { TapeEntry } from "./tape";

/** Nearer than so many bytes what lies between is unpacked, rather than jumped over. */
const NEAR = 512 * 1024;
const EMPTY_AFTER = 50;
const TELL_EVERY = 200;

/** What somebody who looks is told. */
export interface ReplayEvents {
  cursor(cursor: Cursor): void;
  pointer(x: number, y: number): void;
  /** So many entries are drawn: told now and then where it takes long, and at the end. */
  reached(entries: number): void;
}

/** Draws a recorded desktop entry by entry, and keeps places from which it can begin within it. */
export class ReplayDrawer {
  readonly #stills = new Stills();
  #reader: RfbReader | undefined;
  #cursor: Cursor | undefined;
  #pointer: { x: number; y: number } | undefined;
  /** Counts how often it began anew: what was asked for before is not drawn any more. */
  #turn = 0;
  #last = Promise.resolve();
  /** Something is shown since. */
  #shows = false;

  constructor(
    private readonly painter: Painter,
    private readonly blob: Blob,
    private readonly entries: readonly TapeEntry[],
    private readonly events: ReplayEvents,
  ) {}

  reset(): void {
    const turn = ++this.#turn;
    this.#shows = false;
    // Where nothing follows at once, nothing was to be seen then.
    setTimeout(() => {
      if (turn === this.#turn && !this.#shows) this.painter.clear();
    }, EMPTY_AFTER);
  }

  /** Shows entries from one on, up to another, which is not among them; from the beginning on after it began anew. */
  show(from: number, to: number): Promise<void> {
    const turn = this.#turn;
    this.#shows = true;
    const shown = this.#last.then(() => this.#show(from, to, turn));
    this.#last = shown.then(
      () => undefined,
      () => undefined,
    );
    return shown;
  }

  async #show(from: number, to: number, turn: number): Promise<void> {
    if (turn !== this.#turn) return;
    if (from === 0) this.#reader = undefined;
    let told = performance.now();
    for (let i = this.#jump(from, to); i < to; i++) {
      const entry = this.entries[i];
      if (entry?.kind === "open") this.#reader = this.#begin();
      if (entry?.kind !== "rfb" || !this.#reader) continue;
      this.#reader.feed(new Uint8Array(await this.blob.slice(entry.from, entry.from + entry.length).arrayBuffer()));
      // Not more than what is drawn is unpacked: what was recorded may be long.
      await this.painter.drawn();
      await this.#keep(i + 1, entry.from + entry.length);
      if (turn !== this.#turn) return;
      if (performance.now() - told < TELL_EVERY) continue;
      told = performance.now();
      this.events.reached(i + 1);
    }
    this.events.reached(to);
  }

  /** @returns The entry to go on with. */
  #jump(from: number, to: number): number {
    const still = this.#stills.between(from, to);
    if (!still || (this.#reader && still.bytes - (this.entries[from]?.from ?? 0) < NEAR)) return from;
    this.#reader = this.#begin(still.rest);
    this.painter.put(still.picture);
    [this.#cursor, this.#pointer] = [still.cursor, still.pointer];
    if (still.cursor) this.events.cursor(still.cursor);
    if (still.pointer) this.events.pointer(still.pointer.x, still.pointer.y);
    return still.entry;
  }

  async #keep(entry: number, bytes: number): Promise<void> {
    if (!this.#stills.isDue(bytes)) return;
    const rest = this.#reader?.rest;
    if (!rest) return;
    const [cursor, pointer] = [this.#cursor, this.#pointer];
    // Without one it only takes longer to come here again.
    const picture = await this.painter.still().catch(() => undefined);
    if (picture) this.#stills.add({ entry, bytes, picture, rest, cursor, pointer });
  }

  #begin(from?: RfbRest): RfbReader {
    return new RfbReader(
      {
        say: () => undefined,
        name: () => undefined,
        draw: (strokes) => this.painter.draw(strokes),
        afterDrawing: () => undefined,
        cursor: (cursor) => {
          this.#cursor = cursor;
          this.events.cursor(cursor);
        },
        pointer: (x, y) => {
          this.#pointer = { x, y };
          this.events.pointer(x, y);
        },
        monitors: () => undefined,
        resized: () => undefined,
        fence: () => undefined,
        clipboardThere: () => undefined,
        clipboard: () => undefined,
      },
      from,
    );
  }
}
