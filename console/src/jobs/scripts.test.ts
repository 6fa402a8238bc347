import { describe, expect, it } from "vitest";
import type { JobInfo, ScriptParameter } from "../api/types";
import { asScript, ofJob } from "./ScriptEditor";
import { fits, missingValue, sharingWords } from "./scripts";

const days: ScriptParameter = { name: "DAYS", kind: "whole", least: 1, most: 90, optional: false };

describe("parameters", () => {
  it("say what fits them", () => {
    expect(fits(days)).toBe("Whole number from 1 to 90");
    expect(fits({ ...days, least: null })).toBe("Whole number up to 90");
    expect(fits({ name: "HOW", kind: "choice", choices: ["quiet", "loud"], optional: false })).toBe(
      "One of quiet, loud",
    );
    expect(fits({ name: "WHEN", kind: "day", optional: true })).toBe("Day");
  });

  it("name the first that still needs a value", () => {
    expect(missingValue([days], {})).toBe("Say first what DAYS is");
    expect(missingValue([days], { DAYS: "3" })).toBeUndefined();
    expect(missingValue([{ ...days, default: "14" }], {})).toBeUndefined();
    expect(missingValue([{ ...days, optional: true }], {})).toBeUndefined();
  });
});

describe("what a job ran", () => {
  it("becomes the text of a script", () => {
    expect(asScript({ line: "df -h", shell: "/bin/bash", user: "www-data" })).toMatchObject({
      script: "#!/bin/bash\ndf -h\n",
      user: "www-data",
    });
    expect(asScript({ arguments: ["printf", "%s\\n", "it's"] }).script).toBe(
      "#!/bin/sh\nexec printf '%s\\n' 'it'\\''s'\n",
    );
    expect(asScript({ script: "x", shell: "/bin/dash", arguments: ["a"] })).toMatchObject({
      script: "x",
      shell: "/bin/dash",
      arguments: ["a"],
    });
  });

  it("has its variables as parameters", () => {
    expect(ofJob({ command: { line: "echo", environment: { WHO: "Wanda" } } } as unknown as JobInfo)).toEqual([
      { name: "WHO", kind: "text", default: "Wanda", optional: false },
    ]);
    expect(ofJob(undefined)).toEqual([]);
  });
});

it("says with whom a script is shared", () => {
  expect(sharingWords([])).toBe("its owner alone");
  expect(sharingWords([{ teamId: null, mayChange: false }])).toBe("everybody");
  expect(sharingWords([{ teamId: "1", team: "Coast", mayChange: true }])).toBe("Coast (may change)");
});
