import { deflate, Deflate } from "pako";
import { describe, expect, it, vi } from "vitest";
import { Keyboard, placeOf, symOf, symOfCharacter } from "./keys";
import { RfbReader, type RfbEvents, type Stroke } from "./rfb";
import * as say from "./rfbSay";
import { RfbProblem, ZrleDecoder } from "./zrle";

/** Packs pieces into one stream that goes on, as a host does. */
function packer(): (plain: number[]) => Uint8Array {
  const stream = new Deflate();
  let out: Uint8Array[] = [];
  stream.onData = (piece) => void out.push(piece as Uint8Array);
  return (plain) => {
    out = [];
    stream.push(Uint8Array.from(plain), 2);
    return Uint8Array.from(out.flatMap((o) => [...o]));
  };
}

/** Bytes that can't be packed, the same for the same seed. */
function noise(seed: number, length: number): number[] {
  let x = seed * 2654435761 + 1;
  return Array.from({ length }, () => {
    x = (Math.imul(x, 1664525) + 1013904223) | 0;
    return (x >>> 16) & 255;
  });
}

const noiseTile = (seed: number) => [0, ...noise(seed, 64 * 64 * 3)];

const red = [0, 0, 255];
const blue = [255, 0, 0];
const RED = 0xff0000ff;
const BLUE = 0xffff0000;

describe("ZRLE", () => {
  it("reads every kind of tile from one stream", () => {
    const pack = packer();
    const zrle = new ZrleDecoder();
    // One colour.
    expect([...zrle.read(pack([1, ...red]), 2, 2)]).toEqual([RED, RED, RED, RED]);
    // Every pixel by itself.
    expect([...zrle.read(pack([0, ...red, ...blue]), 2, 1)]).toEqual([RED, BLUE]);
    // Two colours, a bit each, rows begin with a byte.
    expect([...zrle.read(pack([2, ...red, ...blue, 0b01000000, 0b10000000]), 2, 2)]).toEqual([RED, BLUE, BLUE, RED]);
    // Runs that bring their colour, over the end of a row.
    expect([...zrle.read(pack([128, ...red, 2, ...blue, 0]), 2, 2)]).toEqual([RED, RED, RED, BLUE]);
    // Runs of a palette.
    expect([...zrle.read(pack([130, ...red, ...blue, 129, 1, 0, 1]), 2, 2)]).toEqual([BLUE, BLUE, RED, BLUE]);
    // Longer than one byte tells.
    expect([...zrle.read(pack([128, ...blue, 255, 255, 255, 255, 3]), 64, 16)].every((p) => p === BLUE)).toBe(true);
    // Tiles beside and below each other.
    const many = zrle.read(pack([1, ...red, 1, ...blue, 1, ...blue, 1, ...red]), 65, 65);
    expect([many[0], many[64], many[64 * 65], many[65 * 65 - 1]]).toEqual([RED, BLUE, BLUE, RED]);
  });

  it.each([
    ["a kind there is none of", [17]],
    ["another", [129]],
    ["a colour that was not brought", [130, ...red, ...blue, 5]],
    ["a run over the end", [128, ...red, 255, 255]],
    ["too little", [1, 0]],
    ["too much", [1, ...red, 9]],
  ])("tells %s", (_, tile) => {
    expect(() => new ZrleDecoder().read(packer()(tile), 2, 2)).toThrow(RfbProblem);
  });

  it("goes on within a stream from what another had unpacked", () => {
    const pack = packer();
    const first = new ZrleDecoder();
    // More than what may be referred to, in small pieces and in one that is larger by itself.
    for (let n = 0; n < 40; n++) first.read(pack([0, ...noise(n, 64 * 10 * 3)]), 64, 10);
    first.read(pack([...noiseTile(41), ...noiseTile(42), ...noiseTile(43), ...noiseTile(44)]), 128, 128);
    const again = noise(39, 64 * 10 * 3);
    first.read(pack([0, ...again]), 64, 10);
    const second = new ZrleDecoder(first.window);
    expect(second.window).toEqual(first.window);
    expect(second.window.length).toBe(32 * 1024);
    // What has just been packed is only referred to.
    const short = pack([0, ...again]);
    expect(short.length).toBeLessThan(100);
    const pixels = second.read(short, 64, 10);
    expect(pixels).toEqual(first.read(short, 64, 10));
    expect(pixels[0]).toBe(
      (0xff000000 | ((again[0] as number) << 16) | ((again[1] as number) << 8) | (again[2] as number)) >>> 0,
    );
    expect(new ZrleDecoder(new ZrleDecoder().window).read(packer()([1, ...red]), 1, 1)[0]).toBe(RED);
  });

  it("tells what is no zlib", () => {
    expect(() => new ZrleDecoder().read(Uint8Array.from([1, 2, 3, 4]), 2, 2)).toThrow(RfbProblem);
  });
});

const u16 = (n: number) => [n >> 8, n & 255];
const u32 = (n: number) => [(n >>> 24) & 255, (n >>> 16) & 255, (n >>> 8) & 255, n & 255];
const hello = [..."RFB 003.008\n"].map((c) => c.charCodeAt(0));
const init = [...hello, 1, 1, ...u32(0), ...u16(4), ...u16(2), ...new Array<number>(16).fill(0), ...u32(1), 97];
const rect = (x: number, y: number, w: number, h: number, kind: number) => [
  ...u16(x),
  ...u16(y),
  ...u16(w),
  ...u16(h),
  ...u32(kind),
];
const update = (...rects: number[][]) => [0, 0, ...u16(rects.length), ...rects.flat()];

function listen() {
  const strokes: Stroke[] = [];
  const events = {
    say: vi.fn(),
    name: vi.fn(),
    draw: vi.fn((s: Stroke[]) => void strokes.push(...s)),
    afterDrawing: vi.fn(),
    cursor: vi.fn(),
    pointer: vi.fn(),
    monitors: vi.fn(),
    resized: vi.fn(),
    fence: vi.fn(),
    clipboardThere: vi.fn(),
    clipboard: vi.fn(),
  } satisfies RfbEvents;
  return { events, strokes, reader: new RfbReader(events) };
}

describe("RFB", () => {
  it("reads what a host shows, whatever pieces it comes in", () => {
    const bytes = [
      ...init,
      ...update(
        rect(0, 0, 1, 1, 0),
        [1, 2, 3, 0],
        rect(1, 0, 2, 2, 1),
        [...u16(0), ...u16(0)],
        rect(0, 0, 4, 2, 7),
        [0x80, 9, 8, 7],
        rect(0, 0, 4, 2, 7),
        [0x90, 0x83, 0x01, ...new Array<number>(131).fill(5)],
        rect(3, 1, 0, 0, say.encoding.pointer),
        rect(0, 0, 640, 480, say.encoding.extendedDesktopSize),
        [1, 0, 0, 0, ...u32(1), ...u16(0), ...u16(0), ...u16(640), ...u16(480), ...u32(0)],
      ).map((b, i) => (i === 3 ? 6 : b)),
      248,
      0,
      0,
      0,
      ...u32(0x80000001),
      2,
      7,
      8,
      150,
      3,
      0,
      0,
      0,
      ...u32(2),
      104,
      105,
    ];
    for (const size of [1, 3, 7, 1000]) {
      const { events, strokes, reader } = listen();
      for (let at = 0; at < bytes.length; at += size) reader.feed(Uint8Array.from(bytes.slice(at, at + size)));
      expect(events.name).toHaveBeenCalledWith("a");
      expect(strokes.map((s) => s.kind)).toEqual(["size", "pixels", "copy", "fill", "jpeg", "size"]);
      expect(strokes[1]).toMatchObject({ pixels: Uint32Array.from([0xff010203]) });
      expect(strokes[3]).toMatchObject({ colour: "rgb(9 8 7)" });
      expect((strokes[4] as { data: Uint8Array }).data).toHaveLength(131);
      expect(events.pointer).toHaveBeenCalledWith(3, 1);
      expect(events.monitors).toHaveBeenCalledWith([{ x: 0, y: 0, width: 640, height: 480 }]);
      expect(events.afterDrawing).toHaveBeenCalledWith(say.fence(1, Uint8Array.from([7, 8])));
      expect(events.say).toHaveBeenCalledWith(say.continuousUpdates(640, 480));
      expect(events.clipboard).toHaveBeenCalledWith("hi");
    }
  });

  it("gets and gives texts of the clipboard", () => {
    const { events, reader } = listen();
    const text = [...new TextEncoder().encode("Möwe\r\n5 €\0")];
    const packed = [...deflate(Uint8Array.from([...u32(text.length), ...text]))];
    const cut = (body: number[]) => [3, 0, 0, 0, ...u32(-body.length), ...body];
    reader.feed(Uint8Array.from([...init, ...cut(u32(say.clipboardAct.notify | 1))]));
    expect(events.clipboardThere).toHaveBeenCalledOnce();
    reader.feed(Uint8Array.from(cut([...u32(say.clipboardAct.provide | 1), ...packed])));
    expect(events.clipboard).toHaveBeenCalledWith("Möwe\n5 €");
    expect([...say.clipboard(say.clipboardAct.request)]).toEqual([6, 0, 0, 0, ...u32(-4), ...u32(0x02000001)]);
  });

  it("says how another size was taken", () => {
    const { events, strokes, reader } = listen();
    const none = [0, 0, 0, 0];
    reader.feed(
      Uint8Array.from([...init, ...update([...rect(1, 3, 9, 9, say.encoding.extendedDesktopSize), ...none])]),
    );
    expect(events.resized).toHaveBeenCalledWith(3);
    expect(strokes.filter((s) => s.kind === "size")).toHaveLength(1);
  });

  it.each([
    ["another protocol", [..."HTTP/1.1 400"].map((c) => c.charCodeAt(0))],
    ["an unknown message", [...init, 77]],
    ["a rectangle outside of the screen", [...init, ...update(rect(3, 0, 2, 1, 0))]],
    ["a copy from outside", [...init, ...update([...rect(0, 0, 4, 1, 1), ...u16(1), ...u16(0)])]],
    ["an encoding that was not asked for", [...init, ...update(rect(0, 0, 1, 1, 5))]],
    ["a screen without an edge", [...init, ...update(rect(0, 0, 60000, 60000, say.encoding.desktopSize))]],
    ["a pointer without an edge", [...init, ...update(rect(0, 0, 9999, 9999, say.encoding.cursor))]],
    ["a clipboard of 2^31 bytes", [...init, 3, 0, 0, 0, ...u32(0x80000000)]],
    ["a rectangle of 4 GB", [...init, ...update([...rect(0, 0, 1, 1, 16), ...u32(0xffffffff)])]],
  ])("tells %s", (_, bytes) => {
    const { reader } = listen();
    expect(() => reader.feed(Uint8Array.from(bytes))).toThrow(RfbProblem);
  });
});

describe("keys", () => {
  it("have X's names", () => {
    expect(symOfCharacter("a")).toBe(0x61);
    expect(symOfCharacter("ß")).toBe(0xdf);
    expect(symOfCharacter("€")).toBe(0x010020ac);
    expect(symOfCharacter("🐦")).toBe(0x0101f426);
    expect(symOf({ key: "F12", code: "F12", location: 0 })).toBe(0xffc9);
    expect(symOf({ key: "Shift", code: "ShiftRight", location: 2 })).toBe(0xffe2);
    expect(symOf({ key: "Dead", code: "Backquote", location: 0 })).toBeUndefined();
  });

  it("have places on an XT keyboard", () => {
    expect(["KeyA", "Digit1", "F11", "ArrowUp", "NumpadEnter", "ControlRight", "Fn"].map(placeOf)).toEqual([
      0x1e, 0x02, 0x57, 0xc8, 0x9c, 0x9d, 0,
    ]);
  });

  function keyboard() {
    const said: string[] = [];
    return {
      said,
      keys: new Keyboard((down, sym, place) => said.push(`${down ? "+" : "-"}${sym.toString(16)}/${place}`)),
    };
  }

  it("are let go of under the name that they were pressed with", () => {
    const { said, keys } = keyboard();
    keys.down({ key: "Shift", code: "ShiftLeft", location: 1 });
    keys.down({ key: "A", code: "KeyA", location: 0 });
    keys.up({ code: "ShiftLeft" });
    keys.up({ code: "KeyA" });
    keys.up({ code: "KeyA" });
    expect(said).toEqual(["+ffe1/0", "+41/0", "-ffe1/0", "-41/0"]);
  });

  it("that are held are let go of when the window loses its keyboard", () => {
    const { said, keys } = keyboard();
    keys.down({ key: "Control", code: "ControlLeft", location: 1 });
    keys.down({ key: "x", code: "KeyX", location: 0 });
    keys.letGo();
    keys.letGo();
    expect(said.slice(2)).toEqual(["-ffe3/0", "-78/0"]);
  });

  it("of a third level bring their character and nothing else", () => {
    const { said, keys } = keyboard();
    keys.down({ key: "Control", code: "ControlLeft", location: 1 });
    keys.down({ key: "AltGraph", code: "AltRight", location: 2 });
    keys.down({ key: "@", code: "KeyQ", location: 0 });
    expect(said).toEqual(["+ffe3/0", "-ffe3/0", "+40/0"]);
  });

  it("count by their place when that is wanted", () => {
    const { said, keys } = keyboard();
    keys.count(true);
    keys.down({ key: "z", code: "KeyY", location: 0 });
    keys.up({ code: "KeyY" });
    expect(said).toEqual(["+7a/21", "-7a/21"]);
  });

  it("type a text, and press several at once", () => {
    const { said, keys } = keyboard();
    keys.type("a\r\nß");
    expect(said).toEqual(["+61/0", "-61/0", "+ff0d/0", "-ff0d/0", "+df/0", "-df/0"]);
    said.length = 0;
    keys.press([1, 2]);
    expect(said).toEqual(["+1/0", "+2/0", "-2/0", "-1/0"]);
  });
});
