import { describe, expect, it } from "vitest";
import type { AnswerLine, CommandSpec, FoldedAnswer } from "../api/types";
import { commonest, onlyDifferent, toggled, usualMask } from "./answers";
import { howWords, readVariables, toBase64 } from "./how";

const line = (kind: AnswerLine["kind"], text: string): AnswerLine => ({ kind, text, first: 1, second: 1 });

describe("what is passed over", () => {
  it("is put in and taken out, in the same order whatever was clicked first", () => {
    expect(toggled(usualMask, "numbers")).toBe("times,names,addresses,numbers");
    expect(toggled("numbers", "times")).toBe("times,numbers");
    expect(toggled("times", "times")).toBe("nothing");
    expect(toggled("nothing", "names")).toBe("names");
  });
});

describe("a comparison", () => {
  it("keeps what differs with two lines around it and counts the rest", () => {
    const lines = [..."abcdef"].map((t) => line("same", t));
    lines.push(line("only-first", "x"), ...[..."ghijk"].map((t) => line("same", t)));
    const shown = onlyDifferent(lines);
    expect(shown.map((l) => ("equal" in l ? l.equal : l.text))).toEqual([4, "e", "f", "x", "g", "h", 3]);
  });

  it("is empty but for a number where nothing differs", () => {
    expect(onlyDifferent([line("same", "a"), line("same", "b")])).toEqual([{ equal: 2 }]);
  });

  it("is against the fold that most hosts are in, when there is another", () => {
    const folds = [{ runs: ["a"] }, { runs: ["b", "c"] }] as FoldedAnswer[];
    expect(commonest(folds)?.runs).toEqual(["b", "c"]);
    expect(commonest(folds.slice(0, 1))).toBeUndefined();
  });
});

describe("how a job runs", () => {
  it("is said in a line", () => {
    const command = {
      user: "www-data",
      environment: { TIDE: "ebb" },
      timeoutSeconds: 90,
      niceness: 0,
      outputLimitBytes: 0,
      input: toBase64("é"),
    } as CommandSpec;
    expect(howWords(command, { atOnce: 2, onePerGroup: true, stopAfterFailures: 1 })).toBe(
      "as www-data, with TIDE=ebb, with 2 B of input, niceness 0, time-out 1 min, output up to 0 B, 2 at once, one of each group at once, stops after 1 failure",
    );
    expect(howWords({} as CommandSpec, null)).toBe("");
  });

  it("takes variables line by line and names the line that is none", () => {
    expect(readVariables("A=1\n\n B=x=y ")).toEqual({ variables: { A: "1", B: "x=y " } });
    expect(readVariables("nonsense").problem).toContain("NAME=VALUE");
    expect(readVariables("").variables).toBeNull();
  });
});
