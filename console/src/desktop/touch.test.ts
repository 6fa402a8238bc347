import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { HOLD, Touches } from "./touch";

describe("fingers on a host's screen", () => {
  let told: string[];
  let touches: Touches;

  beforeEach(() => {
    vi.useFakeTimers();
    told = [];
    touches = new Touches({
      mouse: (x, y, buttons) => told.push(`mouse ${String(x)} ${String(y)} ${String(buttons)}`),
      wheel: (_, __, way) => told.push(way),
      zoom: (by) => told.push(`zoom ${by.toFixed(2)}`),
    });
  });
  afterEach(() => vi.useRealTimers());

  it("one that taps clicks where it is", () => {
    touches.down(1, 40, 50);
    touches.move(1, 43, 52);
    touches.up(1);
    expect(told).toEqual(["mouse 40 50 0", "mouse 43 52 1", "mouse 43 52 0"]);
  });

  it("one that is held presses the right button, once", () => {
    touches.down(1, 40, 50);
    vi.advanceTimersByTime(HOLD + 10);
    touches.move(1, 90, 90);
    touches.up(1);
    expect(told).toEqual(["mouse 40 50 0", "mouse 40 50 4", "mouse 40 50 0"]);
  });

  it("one that moves drags from where it began to where it ends", () => {
    touches.down(1, 10, 10);
    touches.move(1, 30, 10);
    touches.move(1, 60, 12);
    vi.advanceTimersByTime(HOLD * 2);
    touches.up(1);
    expect(told).toEqual(["mouse 10 10 0", "mouse 10 10 1", "mouse 30 10 1", "mouse 60 12 1", "mouse 60 12 0"]);
  });

  it("two that tap press the right button between them, and lifting the second clicks nothing", () => {
    touches.down(1, 10, 20);
    touches.down(2, 30, 20);
    touches.up(1);
    touches.up(2);
    expect(told).toEqual(["mouse 10 20 0", "mouse 20 20 4", "mouse 20 20 0"]);
  });

  it("two that move turn the wheel the way that what is under them goes", () => {
    touches.down(1, 100, 300);
    touches.down(2, 160, 300);
    for (let y = 290; y >= 180; y -= 10) {
      touches.move(1, 100, y);
      touches.move(2, 160, y);
    }
    touches.up(1);
    touches.up(2);
    expect(new Set(told.slice(1))).toEqual(new Set(["down"]));
    expect(told.length).toBeGreaterThan(3);
  });

  it("two that spread make it larger, and press nothing", () => {
    touches.down(1, 100, 100);
    touches.down(2, 200, 100);
    touches.move(2, 230, 100);
    touches.move(2, 260, 100);
    touches.up(2);
    touches.up(1);
    expect(told).toEqual(["mouse 100 100 0", "zoom 1.30", "zoom 1.23"]);
  });

  it("a second finger ends a drag, and what the browser takes for itself leaves nothing pressed", () => {
    touches.down(1, 10, 10);
    touches.move(1, 40, 10);
    touches.down(2, 90, 10);
    expect(told.at(-1)).toBe("mouse 40 10 0");
    touches.cancel(1);
    touches.up(2);
    touches.down(3, 10, 10);
    touches.move(3, 40, 10);
    touches.cancel(3);
    expect(told.at(-1)).toBe("mouse 40 10 0");
  });
});
