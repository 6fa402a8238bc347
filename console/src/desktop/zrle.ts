import { Inflate } from "pako";

const TILE = 64;

/** What came is no picture: the line is of no use any more. */
export class RfbProblem extends Error {}

/** So far back what is packed may refer to (RFC 1951, 2). */
const WINDOW = 32 * 1024;

/** Unpacks one zlib stream that goes on from rectangle to rectangle. */
class Unpacker {
  #pieces: Uint8Array[] = [];
  #piece: Uint8Array = new Uint8Array();
  #at = 0;
  readonly #inflate: Inflate;
  readonly #window = new Uint8Array(WINDOW);
  #known = 0;

  /** @param before What came last before, where it goes on within a stream; nothing begins one. */
  constructor(before?: Uint8Array<ArrayBuffer>) {
    this.#inflate = new Inflate({ chunkSize: 64 * 1024, ...(before?.length ? { raw: true, dictionary: before } : {}) });
    if (before) this.#remember(before);
    this.#inflate.onData = (piece) => {
      this.#pieces.push(piece as Uint8Array);
      this.#remember(piece as Uint8Array);
    };
  }

  /** What one needs to go on from here, between two rectangles: whoever packs ends each on a whole byte. */
  get window(): Uint8Array<ArrayBuffer> {
    return this.#window.slice(0, this.#known);
  }

  #remember(piece: Uint8Array): void {
    const kept = Math.min(this.#known, Math.max(0, WINDOW - piece.length));
    this.#window.copyWithin(0, this.#known - kept, this.#known);
    this.#window.set(piece.subarray(Math.max(0, piece.length - WINDOW)), kept);
    this.#known = Math.min(WINDOW, kept + piece.length);
  }

  put(packed: Uint8Array): void {
    // 2 is a flush: all that is there comes out.
    if (!this.#inflate.push(packed, 2) && this.#inflate.err) throw new RfbProblem("a rectangle can't be unpacked");
  }

  byte(): number {
    while (this.#at === this.#piece.length) {
      const next = this.#pieces.shift();
      if (!next) throw new RfbProblem("a rectangle ends before it is whole");
      this.#piece = next;
      this.#at = 0;
    }
    return this.#piece[this.#at++] as number;
  }

  /** A pixel of three bytes: blue, green, red; as it lies in an image, with nothing to see through. */
  pixel(): number {
    const piece = this.#piece;
    if (piece.length - this.#at >= 3) {
      const at = this.#at;
      this.#at += 3;
      return 0xff000000 | ((piece[at] as number) << 16) | ((piece[at + 1] as number) << 8) | (piece[at + 2] as number);
    }
    const blue = this.byte();
    const green = this.byte();
    return 0xff000000 | (blue << 16) | (green << 8) | this.byte();
  }

  get isEmpty(): boolean {
    return this.#at === this.#piece.length && this.#pieces.every((p) => p.length === 0);
  }
}

/** Reads rectangles of ZRLE (RFC 6143, 7.7.6) whose pixels take three bytes. */
export class ZrleDecoder {
  readonly #from: Unpacker;
  readonly #colours = new Uint32Array(127);

  /** @param before What another had unpacked last, of a stream that goes on; nothing begins one. */
  constructor(before?: Uint8Array<ArrayBuffer>) {
    this.#from = new Unpacker(before);
  }

  /** What was unpacked last, up to what another needs to go on. */
  get window(): Uint8Array<ArrayBuffer> {
    return this.#from.window;
  }

  /** @returns Pixels of the rectangle, row by row, each 0xAABBGGRR. */
  read(packed: Uint8Array, width: number, height: number): Uint32Array<ArrayBuffer> {
    const from = this.#from;
    from.put(packed);
    const pixels = new Uint32Array(width * height);
    for (let y = 0; y < height; y += TILE)
      for (let x = 0; x < width; x += TILE)
        this.#tile(pixels, width, x, y, Math.min(TILE, width - x), Math.min(TILE, height - y));
    if (!from.isEmpty) throw new RfbProblem("a rectangle brings more than it is large");
    return pixels;
  }

  #tile(pixels: Uint32Array, stride: number, left: number, top: number, width: number, height: number): void {
    const from = this.#from;
    const kind = from.byte();
    if (kind === 0) {
      for (let y = 0; y < height; y++) {
        const row = (top + y) * stride + left;
        for (let x = 0; x < width; x++) pixels[row + x] = from.pixel();
      }
    } else if (kind === 1) {
      const pixel = from.pixel();
      for (let y = 0; y < height; y++) {
        const row = (top + y) * stride + left;
        pixels.fill(pixel, row, row + width);
      }
    } else if (kind <= 16) {
      this.#palette(kind);
      this.#packed(pixels, stride, left, top, width, height, kind);
    } else if (kind === 128 || kind >= 130) {
      this.#palette(kind - 128);
      this.#runs(pixels, stride, left, top, width, height, kind - 128);
    } else {
      throw new RfbProblem(`a tile is of kind ${kind}, which there is none of`);
    }
  }

  #packed(pixels: Uint32Array, stride: number, left: number, top: number, width: number, height: number, n: number) {
    const from = this.#from;
    const bits = n <= 2 ? 1 : n <= 4 ? 2 : 4;
    const mask = (1 << bits) - 1;
    for (let y = 0; y < height; y++) {
      const row = (top + y) * stride + left;
      let value = 0;
      let rest = 0;
      for (let x = 0; x < width; x++) {
        if (rest === 0) {
          value = from.byte();
          rest = 8;
        }
        rest -= bits;
        pixels[row + x] = this.#colour((value >> rest) & mask, n);
      }
    }
  }

  /** Runs over the whole tile, row after row; without a palette each brings its colour. */
  #runs(pixels: Uint32Array, stride: number, left: number, top: number, width: number, height: number, n: number) {
    const from = this.#from;
    const all = width * height;
    for (let at = 0; at < all;) {
      let pixel: number;
      let run = 1;
      if (n === 0) {
        pixel = from.pixel();
        run = this.#run();
      } else {
        const index = from.byte();
        pixel = this.#colour(index & 127, n);
        if (index > 127) run = this.#run();
      }
      if (run > all - at) throw new RfbProblem("a run is longer than its tile");
      while (run > 0) {
        const x = at % width;
        const here = Math.min(run, width - x);
        const row = (top + (at - x) / width) * stride + left + x;
        pixels.fill(pixel, row, row + here);
        at += here;
        run -= here;
      }
    }
  }

  #run(): number {
    let run = 1;
    for (;;) {
      const more = this.#from.byte();
      run += more;
      if (more < 255) return run;
      if (run > TILE * TILE) throw new RfbProblem("a run is longer than its tile");
    }
  }

  #palette(n: number): void {
    for (let i = 0; i < n; i++) this.#colours[i] = this.#from.pixel();
  }

  #colour(index: number, n: number): number {
    if (index >= n) throw new RfbProblem("a tile names a colour that it has not brought");
    return this.#colours[index] as number;
  }
}
