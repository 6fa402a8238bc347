import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Drawer } from "../test-service";
import { Replay } from "./replay";
import type { Tape, TapeEntry } from "./tape";

const entry = (kind: string, said: Record<string, unknown> = {}) => ({ at: 0, kind, said }) as unknown as TapeEntry;
const canvas = { transferControlToOffscreen: () => ({}) } as unknown as HTMLCanvasElement;

beforeEach(() => vi.stubGlobal("Worker", Drawer));
afterEach(() => vi.unstubAllGlobals());

describe("a recorded desktop that is shown again", () => {
  it("has what comes next drawn, one after the other, and begins anew", () => {
    const replay = new Replay(new Blob(), canvas);
    expect(Drawer.last.told.map((t) => t.kind)).toEqual(["canvas", "open"]);
    replay.show([entry("host"), entry("mouse", { x: 3, y: 4 }), entry("mouse", { x: 5, y: 6 }), entry("host")]);
    replay.show([entry("host")]);
    expect(Drawer.last.told.slice(2)).toEqual([
      { kind: "show", from: 0, to: 4 },
      { kind: "show", from: 4, to: 5 },
    ]);
    expect(replay.seen()).toMatchObject({ pointer: { x: 5, y: 6 }, wanted: 5 });
    replay.reset();
    expect(replay.seen()).toMatchObject({ pointer: undefined, shown: 0, wanted: 0 });
    replay.show([entry("host")]);
    expect(Drawer.last.told.slice(4)).toEqual([{ kind: "reset" }, { kind: "show", from: 0, to: 1 }]);
  });

  it("tells whoever looks what whoever draws has found", () => {
    const replay = new Replay(new Blob(), canvas);
    const heard = vi.fn();
    const stop = replay.subscribe(heard);
    const tape = { entries: [] } as unknown as Tape;
    for (const message of [
      { kind: "tape", tape },
      { kind: "size", width: 640, height: 480 },
      { kind: "cursor", hotX: 1, hotY: 2, png: undefined },
      { kind: "pointer", x: 7, y: 8 },
      { kind: "shown", to: 12 },
      { kind: "problem", problem: "The recording is cut off." },
    ])
      Drawer.last.says(message);
    expect(heard).toHaveBeenCalledTimes(6);
    expect(replay.seen()).toEqual({
      tape,
      width: 640,
      height: 480,
      cursor: { hotX: 1, hotY: 2, png: undefined },
      pointer: { x: 7, y: 8 },
      shown: 12,
      wanted: 0,
      problem: "The recording is cut off.",
    });
    stop();
    Drawer.last.says({ kind: "shown", to: 13 });
    expect(heard).toHaveBeenCalledTimes(6);
    replay.dispose();
    expect(Drawer.last.isOver).toBe(true);
  });
});
