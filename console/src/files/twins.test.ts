import { describe, expect, it } from "vitest";
import type { TurnAct, TurnInfo } from "../api/types";
import {
  actWord,
  arrow,
  chosen,
  emptyForm,
  folderWords,
  shelfChoice,
  isOn,
  missing,
  progressWords,
  turnWords,
  wayWords,
  wishOf,
} from "./twins";

const turn: TurnInfo = {
  state: "done",
  by: "Ines Okafor",
  beganAt: "2026-11-27T08:00:00Z",
  endedAt: "2026-11-27T08:01:00Z",
  dryRun: false,
  acts: 4,
  actsDone: 3,
  bytes: 2048,
  bytesDone: 2048,
  bytesMoved: 512,
  same: 120,
  conflicts: 1,
  problems: 0,
};

describe("a turn in words", () => {
  it("says what was done, what it cost and what waits", () => {
    expect(turnWords(turn)).toBe(
      "done: 3 things done, 2.0 KiB of files by 512 B on the lines, 120 in step before, 1 conflict",
    );
    expect(turnWords({ ...turn, actsDone: 1, bytes: 0, same: 0, conflicts: 0, problems: 2 })).toBe(
      "done: 1 thing done, 2 problems",
    );
  });

  it("says what would be done where nothing was", () => {
    expect(turnWords({ ...turn, dryRun: true, same: 0, conflicts: 0 })).toBe(
      "done (dry run): 4 things to do, 2.0 KiB of files",
    );
  });

  it("is on until it has ended, and says how far it is or what it waits for", () => {
    expect(isOn(turn)).toBe(false);
    expect(isOn(undefined)).toBe(false);
    expect(isOn({ ...turn, endedAt: null })).toBe(true);
    expect(progressWords({ ...turn, state: "moving" })).toBe("3 of 4 done, 2.0 KiB of 2.0 KiB");
    expect(progressWords({ ...turn, state: "waiting", reason: "creamery-files is away." })).toBe(
      "Waiting: creamery-files is away.",
    );
    expect(progressWords({ ...turn, state: "looking" })).toBe("Looking at both folders");
  });
});

describe("what was done with one thing", () => {
  const act: TurnAct = {
    path: { text: "menu.txt" },
    deed: "file",
    to: "second",
    kind: "file",
    bytes: 5,
    replaces: true,
    isDone: true,
  };
  it("has a word, which says when it was not done", () => {
    expect(actWord(act, false)).toBe("changed");
    expect(actWord({ ...act, replaces: false }, false)).toBe("new");
    expect(actWord({ ...act, isDone: false }, false)).toBe("not done");
    expect(actWord({ ...act, isDone: false }, true)).toBe("changed");
    expect(actWord({ ...act, deed: "delete" }, false)).toBe("to the trash");
    expect(actWord({ ...act, deed: "conflict", isDone: false }, false)).toBe("conflict");
    expect(actWord({ ...act, deed: "setting" }, false)).toBe("mode and time");
  });
});

describe("a new twin", () => {
  const form = {
    ...emptyForm,
    name: " recipes ",
    firstHost: "a",
    firstPath: "/srv/recipes",
    secondHost: "b",
    secondPath: "/srv/recipes",
  };

  it("says what is missing before it can be made", () => {
    expect(missing(emptyForm)).toBe("Give it a name first");
    expect(missing({ ...form, secondHost: "" })).toBe("Choose a host or a shelf for either side first");
    expect(missing({ ...form, firstPath: "" })).toBe("Name a folder on either side first");
    expect(missing({ ...form, secondPath: "srv" })).toBe("srv is no whole path; write it from the root");
    expect(missing(form)).toBeUndefined();
  });

  it("takes away nothing where changes go both ways: there that is always so", () => {
    expect(wishOf({ ...form, bothWays: true, deletes: true, leaves: "*.tmp, , cache/*" }).rules).toEqual({
      way: "both-ways",
      deletes: false,
      leaves: ["*.tmp", "cache/*"],
    });
    expect(wishOf({ ...form, deletes: true })).toEqual({
      name: "recipes",
      first: { hostId: "a", path: { text: "/srv/recipes" } },
      second: { hostId: "b", path: { text: "/srv/recipes" } },
      rules: { way: "one-way", deletes: true, leaves: null },
      rate: null,
    });
    expect(wishOf({ ...form, rate: "0.5" }).rate).toBe(524288);
    expect(missing({ ...form, rate: "fast" })).toBe("fast is no rate; write a number of MiB, such as 2 or 0.5");
  });

  it("takes a shelf where a host may stand, and all of it unless a folder is named", () => {
    const shelf = shelfChoice("s");
    const kept = { ...form, secondPath: "", ...chosen({ ...form, secondPath: "" }, "second", shelf) };
    expect(kept.secondPath).toBe("/");
    expect(wishOf(kept).second).toEqual({ hostId: null, shelfId: "s", path: { text: "/" } });
    expect(missing(kept)).toBeUndefined();
    expect(chosen(form, "second", shelf)).toEqual({ secondHost: shelf });
    expect(chosen({ ...form, firstPath: "" }, "first", "a")).toEqual({ firstHost: "a" });
    expect(missing({ ...kept, firstHost: shelf })).toBe("One of the folders has to be a host’s");
  });

  it("says a side in words, a shelf or a host", () => {
    const at = (path: string, label: string | null = null) => ({
      hostId: null,
      shelfId: "s",
      label,
      groupPath: null,
      path: { text: path },
    });
    expect(folderWords(at("/", "recipes"))).toBe("the shelf recipes");
    expect(folderWords(at("/cheese", "recipes"))).toBe("the shelf recipes:/cheese");
    expect(folderWords(at("/"))).toBe("the shelf that you may not see");
    expect(folderWords({ ...at("/srv", "creamery-files"), hostId: "a", shelfId: null })).toBe("creamery-files:/srv");
  });

  it("is told which way it goes", () => {
    expect(arrow({ way: "both-ways", deletes: false })).toBe("↔");
    expect(wayWords({ way: "one-way", deletes: true })).toContain("taken away");
    expect(wayWords({ way: "one-way", deletes: false })).toContain("gets what the first has");
  });
});
