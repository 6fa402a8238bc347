import { Deflate } from "pako";
import { describe, expect, it, vi } from "vitest";
import { Painter } from "./painter";
import { ReplayDrawer } from "./replayDrawer";
import { Stills } from "./stills";
import type { TapeEntry } from "./tape";

const SIDE = 64;
const PICTURES = 300;

const u16 = (n: number) => [n >> 8, n & 255];
const u32 = (n: number) => [(n >>> 24) & 255, (n >>> 16) & 255, (n >>> 8) & 255, n & 255];

/** A recording in which every picture is another colour, at some kilobytes each; as many as would make a large one. */
function recording() {
  const stream = new Deflate();
  let out: Uint8Array[] = [];
  stream.onData = (piece) => void out.push(piece as Uint8Array);
  const pieces: Uint8Array<ArrayBuffer>[] = [];
  const entries: TapeEntry[] = [{ at: 0, kind: "open", from: 0, length: 0, said: {} }];
  let from = 0;
  const write = (bytes: number[]) => {
    pieces.push(Uint8Array.from(bytes));
    entries.push({ at: entries.length / 10, kind: "rfb", from, length: bytes.length, said: {} });
    from += bytes.length;
  };
  const hello = [..."RFB 003.008\n"].map((c) => c.charCodeAt(0));
  write([
    ...[...hello, 1, 1, ...u32(0)],
    ...[...u16(SIDE), ...u16(SIDE), ...new Array<number>(16).fill(0), ...u32(1), 97],
  ]);
  let x = 1;
  for (let n = 0; n < PICTURES; n++) {
    // The first pixel tells which picture it is; what follows can't be packed.
    const pixels = Array.from({ length: SIDE * SIDE * 3 }, (_, i) => {
      x = (Math.imul(x, 1664525) + 1013904223) | 0;
      return i < 3 ? [n & 255, n >> 8, 0][i] : (x >>> 16) & 255;
    }) as number[];
    out = [];
    stream.push(Uint8Array.from([0, ...pixels]), 2);
    const packed = out.flatMap((o) => [...o]);
    write([
      ...[0, 0, ...u16(1), ...u16(0), ...u16(0), ...u16(SIDE), ...u16(SIDE), ...u32(16)],
      ...[...u32(packed.length), ...packed],
    ]);
  }
  return { blob: new Blob(pieces), entries };
}

const { blob, entries } = recording();

/** A canvas of which only the first pixel is kept, which tells which picture stands on it; and how much is drawn. */
class Surface {
  readonly canvas = { width: 0, height: 0 };
  shows = -1;
  drawn = 0;
  /** Happens when one is drawn. */
  onDrawn: () => void = () => undefined;

  putImageData(image: { data: Uint8ClampedArray }) {
    this.shows = (image.data[2] as number) | ((image.data[1] as number) << 8);
    this.drawn++;
    this.onDrawn();
  }

  drawImage(picture: { shows: number }) {
    this.shows = picture.shows;
  }

  fillRect() {
    this.shows = -1;
  }
}

function looking() {
  const surface = new Surface();
  vi.stubGlobal(
    "ImageData",
    class {
      constructor(readonly data: Uint8ClampedArray) {}
    },
  );
  vi.stubGlobal("createImageBitmap", () =>
    Promise.resolve({ shows: surface.shows, width: SIDE, height: SIDE, close: () => undefined }),
  );
  const failed = vi.fn();
  const painter = new Painter(surface as unknown as OffscreenCanvasRenderingContext2D, {
    size: () => undefined,
    drawn: () => undefined,
    failed,
  });
  return { surface, painter, failed };
}

const reached = vi.fn();

function drawerOf(painter: Painter): ReplayDrawer {
  reached.mockReset();
  return new ReplayDrawer(painter, blob, entries, { cursor: () => undefined, pointer: () => undefined, reached });
}

describe("a recording of a desktop that is gone through", () => {
  it("shows the same picture from wherever one comes, and does not draw all of it again", async () => {
    const { surface, painter, failed } = looking();
    const drawer = drawerOf(painter);
    const end = entries.length;
    await drawer.show(0, end);
    expect(reached).toHaveBeenLastCalledWith(end);
    expect(surface.shows).toBe(PICTURES - 1);
    expect(surface.drawn).toBe(PICTURES);
    for (const picture of [PICTURES - 2, 5, 240, 123, 0, PICTURES - 1]) {
      surface.drawn = 0;
      drawer.reset();
      await drawer.show(0, picture + 3);
      expect(reached).toHaveBeenLastCalledWith(picture + 3);
      expect(surface.shows).toBe(picture);
      expect(surface.drawn).toBeLessThan(100);
    }
    // Ahead, too, where one has been before.
    drawer.reset();
    await drawer.show(0, 10);
    surface.drawn = 0;
    await drawer.show(10, end);
    expect(surface.shows).toBe(PICTURES - 1);
    expect(surface.drawn).toBeLessThan(100);
    expect(failed).not.toHaveBeenCalled();
  });

  it("gives up what nobody waits for any more", async () => {
    const { surface, painter } = looking();
    const drawer = drawerOf(painter);
    let wanted: Promise<void> | undefined;
    surface.onDrawn = () => {
      surface.onDrawn = () => undefined;
      drawer.reset();
      wanted = drawer.show(0, 4);
    };
    const all = drawer.show(0, entries.length);
    const queued = drawer.show(entries.length, entries.length);
    await Promise.all([all, queued]);
    expect(reached).not.toHaveBeenCalled();
    await wanted;
    expect(reached.mock.calls).toEqual([[4]]);
    expect(surface.drawn).toBe(3);
    expect(surface.shows).toBe(1);
  });

  it("shows nothing where it begins anew and nothing follows", async () => {
    const { surface, painter } = looking();
    const drawer = drawerOf(painter);
    await drawer.show(0, 5);
    drawer.reset();
    await vi.waitFor(() => expect(surface.shows).toBe(-1));
  });
});

describe("the places from which a recording goes on", () => {
  const still = (entry: number, bytes: number, side = 1000) => ({
    ...{ entry, bytes, picture: { close: vi.fn() }, cursor: undefined, pointer: undefined },
    rest: { width: side, height: side, unpacked: new Uint8Array() },
  });
  const MB = 1024 * 1024;

  it("are as far apart as they have to be, so as not to become too many", () => {
    const stills = new Stills<{ close: () => void }>();
    const all = [];
    for (let n = 1; n <= 200; n++) {
      if (!stills.isDue(n * MB)) continue;
      const one = still(n, n * MB);
      all.push(one);
      stills.add(one);
    }
    const kept = all.filter((s) => !s.picture.close.mock.calls.length);
    expect(kept.length).toBeLessThanOrEqual(32);
    expect(kept.length).toBeGreaterThan(16);
    const gaps = kept.slice(1).map((s, i) => s.entry - (kept[i]?.entry ?? 0));
    expect(new Set(gaps)).toEqual(new Set([8]));
    // Where they were too near already none is made again.
    expect(stills.isDue((kept[3]?.entry ?? 0) * MB + 4 * MB)).toBe(false);
    expect(stills.between(0, 1000)).toBe(kept.at(-1));
    expect(stills.between(kept[4]?.entry ?? 0, kept[5]?.entry ?? 0)).toBe(kept[5]);
    expect(stills.between(kept[5]?.entry ?? 0, kept[5]?.entry ?? 0)).toBeUndefined();
  });

  it("are not made near the beginning", () => {
    expect(new Stills().isDue(1000)).toBe(false);
    expect(new Stills().isDue(2 * MB)).toBe(true);
  });
});
