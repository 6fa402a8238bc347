import { inflate } from "pako";
import * as say from "./rfbSay";
import { RfbProblem, ZrleDecoder } from "./zrle";

const MOST_SIDE = 16_384;
const MOST_TEXT = 4 * 1024 * 1024;
const MOST_PACKED = 128 * 1024 * 1024;
const MOST_CURSOR = 256;

export interface Part {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** What is to be done on the picture, in this order. */
export type Stroke =
  | { kind: "pixels"; part: Part; pixels: Uint32Array<ArrayBuffer> }
  | { kind: "copy"; part: Part; fromX: number; fromY: number }
  | { kind: "fill"; part: Part; colour: string }
  | { kind: "jpeg"; part: Part; data: Uint8Array<ArrayBuffer> }
  | { kind: "size"; width: number; height: number };

export interface Cursor {
  hotX: number;
  hotY: number;
  width: number;
  height: number;
  /** 0xAABBGGRR. */
  pixels: Uint32Array<ArrayBuffer>;
}

export interface RfbEvents {
  /** Bytes for the other side. */
  say(bytes: Uint8Array<ArrayBuffer>): void;
  name(name: string): void;
  /** One picture's changes. */
  draw(strokes: Stroke[]): void;
  /** Once everything before it is drawn, this is said. */
  afterDrawing(bytes: Uint8Array<ArrayBuffer>): void;
  cursor(cursor: Cursor): void;
  /** Where the pointer is, for who does not move it. */
  pointer(x: number, y: number): void;
  monitors(monitors: Part[]): void;
  /** How a wish for another size was answered: 0 is well. */
  resized(status: number): void;
  /** A fence of our own has come back. */
  fence(payload: Uint8Array): void;
  /** There is a text on the host's clipboard. */
  clipboardThere(): void;
  clipboard(text: string | undefined): void;
}

/** What one needs to know to go on between two messages, beside the picture. */
export interface RfbRest {
  width: number;
  height: number;
  unpacked: Uint8Array<ArrayBuffer>;
}

type Read = Generator<number, void, Uint8Array<ArrayBuffer>>;

/** The viewer's side of RFB 3.8 (RFC 6143): takes bytes as they come, and says what they mean. */
export class RfbReader {
  #held = new Uint8Array(256 * 1024);
  #start = 0;
  #end = 0;
  #need: number;
  readonly #reading: Read;
  readonly #zrle: ZrleDecoder;
  #between = false;
  #width = 0;
  #height = 0;

  /** @param from Where another stopped; nothing begins with the handshake. */
  constructor(
    private readonly events: RfbEvents,
    from?: RfbRest,
  ) {
    this.#zrle = new ZrleDecoder(from?.unpacked);
    if (from) [this.#width, this.#height] = [from.width, from.height];
    this.#reading = from ? this.#messages() : this.#read();
    this.#need = this.#reading.next().value as number;
  }

  /** What another needs to go on from here; undefined within a message. */
  get rest(): RfbRest | undefined {
    if (!this.#between || this.#end > this.#start) return undefined;
    return { width: this.#width, height: this.#height, unpacked: this.#zrle.window };
  }

  /** @throws RfbProblem when what came is no RFB. */
  feed(bytes: Uint8Array): void {
    this.#hold(bytes);
    while (this.#end - this.#start >= this.#need) {
      const next = this.#held.slice(this.#start, this.#start + this.#need);
      this.#start += this.#need;
      this.#need = this.#reading.next(next).value as number;
    }
  }

  #hold(bytes: Uint8Array): void {
    const held = this.#end - this.#start;
    if (this.#end + bytes.length > this.#held.length) {
      const room = held + bytes.length > this.#held.length ? new Uint8Array(2 * (held + bytes.length)) : this.#held;
      room.set(this.#held.subarray(this.#start, this.#end));
      this.#held = room;
      this.#start = 0;
      this.#end = held;
    }
    this.#held.set(bytes, this.#end);
    this.#end += bytes.length;
  }

  *#read(): Read {
    yield* this.#begin();
    yield* this.#messages();
  }

  *#messages(): Read {
    for (;;) {
      this.#between = true;
      const [kind] = yield* take(1);
      this.#between = false;
      if (kind === 0) yield* this.#update();
      else if (kind === 3) yield* this.#cutText();
      else if (kind === 150) this.events.say(say.continuousUpdates(this.#width, this.#height));
      else if (kind === 248) yield* this.#fence();
      else if (kind !== 2)
        throw new RfbProblem(`the host says something of kind ${String(kind)}, which there is none of`);
    }
  }

  *#begin(): Read {
    const version = yield* take(12);
    if (new TextDecoder().decode(version.subarray(0, 4)) !== "RFB ")
      throw new RfbProblem("the host does not speak RFB");
    this.events.say(say.text("RFB 003.008\n"));
    const [kinds] = yield* take(1);
    yield* take(kinds as number);
    this.events.say(new Uint8Array([1]));
    const result = view(yield* take(4)).getUint32(0);
    if (result !== 0) throw new RfbProblem("the host refuses");
    this.events.say(new Uint8Array([1]));
    const init = view(yield* take(24));
    const name = yield* take(Math.min(init.getUint32(20), 4096));
    this.events.name(new TextDecoder().decode(name));
    this.#size(init.getUint16(0), init.getUint16(2));
    const { tight, zrle, copyRect, raw, cursor, extendedDesktopSize, desktopSize, fence, continuous, clipboard } =
      say.encoding;
    this.events.say(say.setFormat());
    this.events.say(
      say.setEncodings([
        copyRect,
        zrle,
        tight,
        raw,
        cursor,
        say.encoding.pointer,
        extendedDesktopSize,
        desktopSize,
        fence,
        continuous,
        clipboard,
        say.encoding.extendedKeys,
        say.encoding.bestQuality,
      ]),
    );
    this.events.say(say.requestUpdate(false, this.#width, this.#height));
  }

  *#update(): Read {
    const count = view(yield* take(3)).getUint16(1);
    const strokes: Stroke[] = [];
    for (let i = 0; i < count; i++) {
      const head = view(yield* take(12));
      const part = { x: head.getUint16(0), y: head.getUint16(2), width: head.getUint16(4), height: head.getUint16(6) };
      const kind = head.getInt32(8);
      if (kind === say.encoding.cursor) yield* this.#cursor(part);
      else if (kind === say.encoding.pointer) this.events.pointer(part.x, part.y);
      else if (kind === say.encoding.extendedDesktopSize) yield* this.#screens(part, strokes);
      else if (kind === say.encoding.desktopSize) strokes.push(this.#resized(part.width, part.height));
      else if (kind !== say.encoding.extendedKeys) yield* this.#rect(part, kind, strokes);
    }
    this.events.draw(strokes);
    // One that was not asked for comes by itself; asking costs nothing where it does.
    this.events.say(say.requestUpdate(true, this.#width, this.#height));
  }

  *#rect(part: Part, kind: number, strokes: Stroke[]): Read {
    if (part.x + part.width > this.#width || part.y + part.height > this.#height)
      throw new RfbProblem("a rectangle lies outside of the screen");
    if (kind === say.encoding.zrle) {
      const length = view(yield* take(4)).getUint32(0);
      if (length > MOST_PACKED) throw new RfbProblem(`a rectangle of ${length} bytes`);
      const packed = yield* take(length);
      strokes.push({ kind: "pixels", part, pixels: this.#zrle.read(packed, part.width, part.height) });
    } else if (kind === say.encoding.tight) {
      yield* this.#tight(part, strokes);
    } else if (kind === say.encoding.copyRect) {
      const from = view(yield* take(4));
      const [fromX, fromY] = [from.getUint16(0), from.getUint16(2)];
      if (fromX + part.width > this.#width || fromY + part.height > this.#height)
        throw new RfbProblem("a rectangle is copied from outside of the screen");
      strokes.push({ kind: "copy", part, fromX, fromY });
    } else if (kind === say.encoding.raw) {
      const bytes = yield* take(4 * part.width * part.height);
      const pixels = new Uint32Array(part.width * part.height);
      for (let i = 0, at = 0; i < pixels.length; i++, at += 4)
        pixels[i] =
          0xff000000 | ((bytes[at] as number) << 16) | ((bytes[at + 1] as number) << 8) | (bytes[at + 2] as number);
      strokes.push({ kind: "pixels", part, pixels });
    } else {
      throw new RfbProblem(`a rectangle is of encoding ${kind}, which was not asked for`);
    }
  }

  *#tight(part: Part, strokes: Stroke[]): Read {
    const control = ((yield* take(1))[0] as number) >> 4;
    if (control === 8) {
      const [red, green, blue] = yield* take(3);
      strokes.push({ kind: "fill", part, colour: `rgb(${String(red)} ${String(green)} ${String(blue)})` });
    } else if (control === 9) {
      let length = 0;
      for (let shift = 0; shift < 21; shift += 7) {
        const next = (yield* take(1))[0] as number;
        length |= (shift === 14 ? next : next & 127) << shift;
        if (next < 128) break;
      }
      strokes.push({ kind: "jpeg", part, data: yield* take(length) });
    } else {
      throw new RfbProblem(`a rectangle is packed in the way ${control}, which was not asked for`);
    }
  }

  *#cursor(hot: Part): Read {
    if (hot.width > MOST_CURSOR || hot.height > MOST_CURSOR) throw new RfbProblem("a pointer that is too large");
    const bytes = yield* take(4 * hot.width * hot.height);
    const row = (hot.width + 7) >> 3;
    const mask = yield* take(row * hot.height);
    const pixels = new Uint32Array(hot.width * hot.height);
    for (let i = 0; i < pixels.length; i++) {
      const x = i % hot.width;
      const shows = ((mask[((i - x) / hot.width) * row + (x >> 3)] as number) & (0x80 >> (x & 7))) !== 0;
      if (shows)
        pixels[i] =
          0xff000000 |
          ((bytes[4 * i] as number) << 16) |
          ((bytes[4 * i + 1] as number) << 8) |
          (bytes[4 * i + 2] as number);
    }
    this.events.cursor({ hotX: hot.x, hotY: hot.y, width: hot.width, height: hot.height, pixels });
  }

  *#screens(said: Part, strokes: Stroke[]): Read {
    const count = (yield* take(4))[0] as number;
    const all = view(yield* take(16 * count));
    // As x the reason is given, as y how it was answered.
    if (said.x === 1) this.events.resized(said.y);
    if (said.x === 1 && said.y !== 0) return;
    if (said.width !== this.#width || said.height !== this.#height)
      strokes.push(this.#resized(said.width, said.height));
    this.events.monitors(
      Array.from({ length: count }, (_, i) => ({
        x: all.getUint16(16 * i + 4),
        y: all.getUint16(16 * i + 6),
        width: all.getUint16(16 * i + 8),
        height: all.getUint16(16 * i + 10),
      })),
    );
  }

  *#cutText(): Read {
    const length = view(yield* take(7)).getInt32(3);
    if (Math.abs(length) > MOST_TEXT) throw new RfbProblem(`a clipboard of ${Math.abs(length)} bytes`);
    const body = yield* take(Math.abs(length));
    if (length >= 0) {
      this.events.clipboard(new TextDecoder("latin1").decode(body));
      return;
    }
    if (body.length < 4) throw new RfbProblem("a message about the clipboard is cut off");
    const flags = view(body).getUint32(0);
    const hasText = (flags & 1) !== 0;
    if (flags & say.clipboardAct.caps) return;
    if (flags & say.clipboardAct.notify && hasText) this.events.clipboardThere();
    if (flags & say.clipboardAct.provide) this.events.clipboard(hasText ? unpackText(body.subarray(4)) : undefined);
  }

  *#fence(): Read {
    const head = view(yield* take(8));
    const payload = yield* take(head.getUint8(7));
    const flags = head.getUint32(3);
    // Of those that ask for an answer all that they may ask for is kept to: it comes behind what was drawn.
    if (flags & 0x80000000) this.events.afterDrawing(say.fence(flags & 7, payload));
    else this.events.fence(payload);
  }

  #size(width: number, height: number): void {
    this.events.draw([this.#resized(width, height)]);
  }

  #resized(width: number, height: number): Stroke {
    if (width < 1 || height < 1 || width > MOST_SIDE || height > MOST_SIDE)
      throw new RfbProblem(`a screen of ${width} x ${height}`);
    this.#width = width;
    this.#height = height;
    return { kind: "size", width, height };
  }
}

function* take(length: number): Generator<number, Uint8Array<ArrayBuffer>, Uint8Array<ArrayBuffer>> {
  return yield length;
}

const view = (bytes: Uint8Array) => new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);

function unpackText(packed: Uint8Array): string {
  let all: Uint8Array;
  try {
    all = inflate(packed);
  } catch {
    throw new RfbProblem("a clipboard that was sent can't be unpacked");
  }
  const length = all.length < 4 ? 0 : view(all).getUint32(0);
  return new TextDecoder()
    .decode(all.subarray(4, 4 + length))
    .replace(/\0+$/, "")
    .replaceAll("\r\n", "\n");
}
