import type { Cursor, RfbRest } from "./rfb";

/** All there is to know to go on with a recording from within it. */
export interface Still<Picture = ImageBitmap> {
  /** The entry that comes next. */
  entry: number;
  /** So many bytes of the recording lie before it. */
  bytes: number;
  picture: Picture;
  rest: RfbRest;
  cursor: Cursor | undefined;
  pointer: { x: number; y: number } | undefined;
}

const FIRST_GAP = 1024 * 1024;
const MOST_PIXELS = 32_000_000;

/**
 * Places of a recording from which it can be gone on with, at like distances; twice as far apart each time that they would
 * become too many. Without them going back in an hour would mean to unpack all of it again.
 */
export class Stills<Picture extends { close(): void } = ImageBitmap> {
  #gap = FIRST_GAP;
  #all: Still<Picture>[] = [];

  /** Whether one is wanted where so many bytes lie before. */
  isDue(bytes: number): boolean {
    return bytes >= this.#gap && this.#all.every((s) => Math.abs(s.bytes - bytes) >= this.#gap);
  }

  add(still: Still<Picture>): void {
    this.#all = [...this.#all, still].sort((a, b) => a.entry - b.entry);
    while (this.#all.length > 1 && this.#all.reduce((n, s) => n + s.rest.width * s.rest.height, 0) > MOST_PIXELS)
      this.#thin();
  }

  /** The last one that lies behind an entry and not behind another. */
  between(after: number, until: number): Still<Picture> | undefined {
    return this.#all.findLast((s) => s.entry > after && s.entry <= until);
  }

  #thin(): void {
    this.#gap *= 2;
    let last = -Infinity;
    this.#all = this.#all.filter((s) => {
      const stays = s.bytes - last >= this.#gap;
      if (stays) last = s.bytes;
      else s.picture.close();
      return stays;
    });
  }
}
