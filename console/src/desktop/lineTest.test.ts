import { describe, expect, it } from "vitest";
import { judge, PINGS } from "./lineTest";

const even = (delay: number) => Array.from({ length: PINGS }, () => delay);

describe("what is said of a line", () => {
  it("tells the middle, the ends and the picture", () => {
    expect(judge({ delays: [30, 10, 20, 20, 20, 21, 19], bytes: 212_400, took: 90 }).figures).toBe(
      "there and back 20 ms (10 ms to 30 ms), a whole picture of 212 kB in 90 ms",
    );
    expect(judge({ delays: even(1.24), bytes: 4_400, took: 8.2 }).figures).toContain("1.2 ms (1.2 ms to 1.2 ms)");
  });

  it.each([
    [even(12), 80, "A good line", false],
    [[...even(12).slice(1), 400], 80, "unsteady", false],
    [even(200), 80, "a moment later", false],
    [even(12), 2_000, "a moment later", false],
    [even(500), 80, "A poor line", true],
    [even(12), 9_000, "A poor line", true],
    [[12, 13], 80, "loses what is said", true],
    [[], 0, "loses what is said", true],
  ])("%j with a picture in %d ms is told as %s", (delays, took, words, poor) => {
    const said = judge({ delays, bytes: 100_000, took });
    expect(said.means).toContain(words);
    expect(said.poor).toBe(poor);
  });
});
