import { describe, expect, it } from "vitest";
import type { HostSummary } from "../api/types";
import type { FileEntry, FileSearch, FileWord } from "./hostFiles";
import {
  FilesSearch,
  type Find,
  missingOf,
  type Reach,
  type Search,
  searchesOf,
  searchWords,
  withoutInner,
} from "./searching";

const host = (label: string, state = "linked") => ({ id: label, label, presence: { state } }) as unknown as HostSummary;
const entry = (name: string, kind: FileEntry["kind"] = "file"): FileEntry => ({
  name: { text: name },
  kind,
  bytes: 5,
  mode: 0o644,
  owner: "root",
  group: "root",
  changedAt: "2026-11-27T08:00:00Z",
});
const find = (label: string, path: string): Find => ({
  id: `${label} ${path}`,
  host: host(label),
  path: { text: path },
  entry: entry(path),
});
const proof = { door: undefined, usesVault: false };

/** Hosts that find what they are told to, one word after the other. */
class Hosts {
  busy = 0;
  most = 0;
  closed: string[] = [];
  deleted: string[] = [];
  asked: FileSearch[] = [];
  waiting: (() => void)[] = [];

  constructor(
    private readonly words: Record<string, FileWord[] | Error>,
    private readonly holds = false,
  ) {}

  reach: Reach = (of) => {
    let leave: (() => void) | undefined;
    return {
      search: async (search, some) => {
        this.asked.push(search);
        this.most = Math.max(this.most, ++this.busy);
        if (this.holds) {
          await new Promise<void>((resolve, reject) => {
            leave = () => reject(new Error("It was left."));
            this.waiting.push(resolve);
          });
        } else await Promise.resolve();
        this.busy--;
        const words = this.words[of.label] ?? [];
        if (words instanceof Error) throw words;
        words.forEach(some);
        return words.at(-1) ?? {};
      },
      hash: (path) =>
        path.text.endsWith("gone")
          ? Promise.reject(new Error("There is no such file."))
          : Promise.resolve(btoa("\x01\xff")),
      change: (change) => {
        this.deleted.push(`${of.label} ${change.delete?.text ?? ""}`);
        return Promise.resolve({});
      },
      close: () => {
        this.closed.push(of.label);
        leave?.();
      },
    };
  };
}

/** Runs a search to its end. */
function run(
  hosts: HostSummary[],
  searches: FileSearch[],
  reach: Reach,
): Promise<{ search: FilesSearch; at: () => Search }> {
  return new Promise((resolve) => {
    let last: Search | undefined;
    const search = new FilesSearch(
      hosts,
      searches,
      proof,
      (at) => {
        last = at;
        if (at.state !== "going") resolve({ search, at: () => last ?? at });
      },
      reach,
    );
  });
}

const srv: FileSearch = { folder: { text: "/srv" } };

describe("files that are looked for on many hosts", () => {
  it("are told with their hosts and whole paths, and what could not be looked at beside them", async () => {
    const hosts = new Hosts({
      quay: [
        { entries: [entry("a"), entry("b/c")] },
        { problem: "/srv/locked can't be read." },
        { entries: [], done: true, count: 40 },
      ],
      desk: [{ entries: [entry("d")], done: true, count: 2 }],
      kiosk: new Error("The host does not allow it."),
    });
    const { at } = await run([host("quay"), host("desk"), host("kiosk"), host("barge", "away")], [srv], hosts.reach);
    expect(
      at()
        .finds.map((f) => `${f.host.label} ${f.path.text}`)
        .sort(),
    ).toEqual(["desk /srv/d", "quay /srv/a", "quay /srv/b/c"]);
    expect(
      at()
        .problems.map((p) => `${p.host}: ${p.text}`)
        .sort(),
    ).toEqual([
      "barge: It is away, and was not looked at.",
      "kiosk: The host does not allow it.",
      "quay: /srv/locked can't be read.",
    ]);
    expect([at().state, at().looked, at().seen]).toEqual(["done", 4, 42]);
    expect(hosts.closed.sort()).toEqual(["desk", "kiosk", "quay"]);
    expect(searchWords(at())).toBe("3 found on 2 hosts; 4 of 4 hosts looked at");
  });

  it("are looked for in each folder, on a few hosts at a time", async () => {
    const hosts = new Hosts({});
    const many = Array.from({ length: 30 }, (_, i) => host(`host-${i}`));
    await run(many, [srv, { folder: { text: "/opt" } }], hosts.reach);
    expect(hosts.asked.length).toBe(60);
    expect(hosts.most).toBe(8);
  });

  it("are looked for no longer when somebody stops it, and what was found stays", async () => {
    const hosts = new Hosts({ quay: [{ entries: [entry("a")], done: true }] }, true);
    let last: Search | undefined;
    const search = new FilesSearch([host("quay"), host("desk")], [srv], proof, (at) => (last = at), hosts.reach);
    await Promise.resolve();
    search.stop();
    await new Promise((resolve) => setTimeout(resolve));
    expect(last).toMatchObject({ state: "stopped", problems: [], finds: [] });
    expect(searchWords(last as unknown as Search)).toBe("0 found; stopped with 0 of 2 hosts looked at");
    expect(new Set(hosts.closed)).toEqual(new Set(["quay", "desk"]));
  });

  it("are hashed where they lie, and one that has gone says so", async () => {
    const hosts = new Hosts({
      quay: [{ entries: [entry("a"), entry("gone"), entry("folder", "folder")], done: true }],
    });
    const { search, at } = await run([host("quay")], [srv], hosts.reach);
    await search.hash(at().finds);
    expect(at().finds.map((f) => f.sha256 ?? f.note)).toEqual(["01ff", "There is no such file.", undefined]);
  });

  it("go to the trash once, a folder with all in it", async () => {
    const hosts = new Hosts({
      quay: [{ entries: [entry("old", "folder"), entry("old/a"), entry("older")], done: true }],
    });
    const { search, at } = await run([host("quay")], [srv], hosts.reach);
    await search.trash(at().finds);
    expect(hosts.deleted).toEqual(["quay /srv/old", "quay /srv/older"]);
    expect(at().finds.map((f) => f.note)).toEqual(["in the trash", "in the trash", "in the trash"]);
  });
});

describe("what is looked for", () => {
  const form = { folders: " /srv, /var/log ", name: "*.log", leastMiB: "0.5", days: "2", text: "" };

  it("is asked for in each folder", () => {
    expect(searchesOf(form, Date.UTC(2026, 10, 27))).toEqual([
      { folder: { text: "/srv" }, name: "*.log", least: 524288, since: "2026-11-25T00:00:00.000Z" },
      { folder: { text: "/var/log" }, name: "*.log", least: 524288, since: "2026-11-25T00:00:00.000Z" },
    ]);
    expect(searchesOf({ ...form, name: "", leastMiB: "", days: "", text: "rennet" }, 0)[0]).toEqual({
      folder: { text: "/srv" },
      text: "rennet",
    });
  });

  it("is said to be missing or odd before anything is asked", () => {
    expect(missingOf(form)).toBeUndefined();
    expect(missingOf({ ...form, folders: " , " })).toBe("Name a folder to look in, such as /srv");
    expect(missingOf({ ...form, folders: "/srv, log" })).toBe("log is no whole path; write it from the root");
    expect(missingOf({ ...form, leastMiB: "much" })).toBe("much is no size; write a number of MiB");
    expect(missingOf({ ...form, days: "-1" })).toBe("-1 is no number of days");
    expect(missingOf({ ...form, name: "a/b" })).toBe("A name has no slash in it; say the folder by itself");
  });

  it("goes with its folder where both are found", () => {
    const all = [find("quay", "/srv/a"), find("quay", "/srv/a/b"), find("desk", "/srv/a/b"), find("quay", "/srv/ab")];
    expect(withoutInner(all).map((f) => f.id)).toEqual(["quay /srv/a", "desk /srv/a/b", "quay /srv/ab"]);
  });
});
