import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Player, shownAt } from "../sessions/player";
import { type CastEvent, readableKeys, readCast, sizeOf } from "./cast";

const HEADER = '{"version":2,"width":90,"height":20}';
const cast = (...lines: string[]) => readCast([HEADER, ...lines, ""].join("\n"));

describe("readCast", () => {
  it("reads events by their letters and passes over what it does not know", () => {
    const read = cast(
      '[0.5,"o","ebb"]',
      '[1,"x","?"]',
      '[1,"i","ls\\r"]',
      '[2,"r","120x40"]',
      '[2.5,"m","ended with 0"]',
    );
    expect([read.columns, read.rows, read.length]).toEqual([90, 20, 2.5]);
    expect(read.events.map((e) => e.kind)).toEqual(["output", "input", "size", "mark"]);
  });

  it("ends with the last whole line of one that is still written, and says where one is broken", () => {
    expect(readCast(`${HEADER}\n[0.5,"o","ebb"]\n[1,"o","fl`).events).toHaveLength(1);
    expect(() => cast('[0.5,"o","ebb"', '[1,"o","flow"]')).toThrow("its line 2 is no event");
    expect(() => readCast("")).toThrow("no header");
    expect(() => readCast('{"version":3,"width":1,"height":1}')).toThrow("version 2");
  });

  it("lets no event go back in time", () => {
    expect(cast('[5,"o","a"]', '[3,"o","b"]').events.map((e) => e.at)).toEqual([5, 5]);
  });
});

it("shortens long pauses and leaves the others", () => {
  const read = cast('[1,"o","a"]', '[100,"o","b"]', '[101,"o","c"]');
  expect(shownAt(read.events, 3)).toEqual([1, 4, 5]);
  expect(shownAt(read.events, undefined)).toEqual([1, 100, 101]);
});

it("reads sizes, and nothing else for one", () => {
  expect(sizeOf("120x40")).toEqual({ columns: 120, rows: 40 });
  expect(sizeOf("9999x1")).toEqual({ columns: 1000, rows: 1 });
  for (const no of ["", "0x9", "120 x 40", "12e9x4"]) expect(sizeOf(no)).toBeUndefined();
});

it("shows keys that show nothing", () => {
  expect(readableKeys("ls\t\r\u0003\u001b[A\u001bOB\u001bq\u007f")).toBe("ls⇥↵Ctrl-C ↑↓Esc q⌫");
});

describe("Player", () => {
  let now = 0;
  let shown: string[] = [];
  const screen = {
    reset: () => (shown = []),
    show: (events: readonly CastEvent[]) => void shown.push(...events.map((e) => e.text)),
  };
  const pass = (seconds: number) => {
    for (let i = 0; i < seconds * 20; i++) {
      now += 50;
      vi.advanceTimersByTime(50);
    }
  };
  const player = (...lines: string[]) =>
    new Player(
      cast(...lines).events,
      screen,
      (e) => (e.kind === "mark" ? e.text : undefined),
      3,
      () => now,
    );

  beforeEach(() => {
    now = 0;
    vi.useFakeTimers();
  });
  afterEach(() => void vi.useRealTimers());

  it("plays at its pace, stops, goes on and begins again", () => {
    const p = player('[1,"o","a"]', '[2,"o","b"]', '[10,"o","c"]');
    expect(p.length).toBe(5);
    p.play();
    pass(1.5);
    expect(shown).toEqual(["a"]);
    p.stop();
    pass(60);
    expect(shown).toEqual(["a"]);
    p.play();
    p.setPace(4);
    pass(1);
    expect(shown).toEqual(["a", "b", "c"]);
    expect([p.playing, p.at]).toEqual([false, 5]);
    p.play();
    expect(shown).toEqual([]);
    p.dispose();
  });

  it("turns to any place, back and forth", () => {
    const p = player('[1,"o","a"]', '[2,"m","half"]', '[3,"o","c"]');
    expect(p.marks).toEqual([{ at: 2, text: "half" }]);
    p.seek(2.5);
    expect(shown).toEqual(["a", "half"]);
    p.seek(99);
    expect(shown).toEqual(["a", "half", "c"]);
    p.seek(1.2);
    expect(shown).toEqual(["a"]);
    p.seek(-1);
    expect(shown).toEqual([]);
  });

  it("keeps what stands there when pauses are counted otherwise", () => {
    const p = player('[1,"o","a"]', '[100,"o","b"]', '[101,"o","c"]');
    p.seek(4);
    p.setLongestPause(undefined);
    expect([p.at, p.length]).toEqual([100, 101]);
    expect(shown).toEqual(["a", "b"]);
    p.seek(101);
    expect(shown).toEqual(["a", "b", "c"]);
  });
});
