import { describe, expect, it } from "vitest";
import type { HostPolicy } from "../api/types";
import {
  actList,
  acts,
  consentWords,
  isNarrowed,
  noticeWords,
  putOffWords,
  giveScreenShort,
  giveScreenWords,
  recordWords,
  rootsOf,
  rootsText,
  rootsWords,
} from "./policyWords";

const everything: HostPolicy = {
  allowed: acts.map((a) => a.act),
  consent: "never",
  notice: "none",
  keyFor: [],
  putOffMinutes: null,
  record: null,
  fileRoots: null,
};

describe("a host policy in words", () => {
  it("names acts, and all of them at once", () => {
    expect(actList([])).toBe("nothing");
    expect(actList(everything.allowed)).toBe("everything");
    expect(actList(["run", "shell"])).toBe("run commands, open a terminal");
  });

  it("has a sentence for each rule", () => {
    expect(consentWords("unless-refused")).toContain("who does not answer has agreed");
    expect(noticeWords(undefined)).toBe("not told");
    expect(noticeWords("before")).toBe("told before and while somebody is there");
    expect(recordWords(null)).toBe("nothing is recorded");
    expect(recordWords("screen-and-keys")).toContain("what is typed there");
    expect(putOffWords(0)).toBe("people there can’t put it off");
    expect(giveScreenWords(null)).toBe(
      "a computer without a screen is given one when a technician comes to control it",
    );
    expect([giveScreenShort(undefined), giveScreenShort(false)]).toEqual(["given where there is none", "not given"]);
    expect(giveScreenWords(false)).toBe("a computer without a screen is left without");
    expect(putOffWords(90)).toBe("people there may put it off, by 90 min in all");
  });

  it.each([
    [null, "files everywhere", ""],
    [["/"], "files everywhere", "everywhere"],
    [[], "files nowhere", "nowhere"],
    [["/srv/till"], "files in /srv/till", "/srv/till"],
    [["/srv/a", "/srv/b", "/home"], "files in /srv/a, /srv/b and /home", "/srv/a, /srv/b, /home"],
  ])("says which folders, and writes them: %j", (roots, words, text) => {
    expect(rootsWords(roots)).toBe(words);
    expect(rootsText(roots)).toBe(text);
  });

  it("reads folders as they are written", () => {
    expect(rootsOf("  ")).toBeNull();
    expect(rootsOf("everywhere")).toEqual(["/"]);
    expect(rootsOf("nowhere")).toEqual([]);
    expect(rootsOf(" /srv/a ,, /srv/b ")).toEqual(["/srv/a", "/srv/b"]);
  });

  it.each<[string, Partial<HostPolicy>, boolean]>([
    ["the same", {}, false],
    ["the same, said otherwise", { notice: "none", record: "none", putOffMinutes: 0, fileRoots: ["/"] }, false],
    ["less is allowed", { allowed: ["watch"] }, true],
    ["a person is asked", { consent: "always" }, true],
    ["a person is told", { notice: "during" }, true],
    ["the key is asked for", { keyFor: ["run"] }, true],
    ["it may be put off", { putOffMinutes: 15 }, true],
    ["it is recorded", { record: "screen" }, true],
    ["fewer folders", { fileRoots: ["/srv"] }, true],
    ["it is given a screen, as is usual", { giveScreen: true }, false],
    ["it is given none", { giveScreen: false }, true],
  ])("sees whether the host's own side narrows it: %s", (_, side, narrowed) => {
    expect(isNarrowed(everything, { ...everything, ...side })).toBe(narrowed);
  });
});
