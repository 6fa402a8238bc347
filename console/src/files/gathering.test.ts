import { Blob as NodeBlob } from "node:buffer";
import { createHash } from "node:crypto";
import { BlobReader, TextWriter, ZipReader } from "@zip.js/zip.js/index-native.js";
import { describe, expect, it, vi } from "vitest";
import type { HostSummary } from "../api/types";
import type { Fetching } from "./fetching";
import { belowItself, foldersOf, Gathering, type ReachFiles } from "./gathering";
import { type FileEntry, type FileWord, LineBroken } from "./hostFiles";
import type { Find } from "./searching";
import { zipArchive } from "./zipArchive";

// Blobs as browsers have them; those of the page's stand-in can't be read as streams.
vi.stubGlobal("Blob", NodeBlob);

const host = (label: string, part: Partial<HostSummary> = {}) =>
  ({
    id: `id of ${label}`,
    label,
    groupPath: "Saltmarsh Ferry/Quay",
    presence: { state: "linked" },
    ...part,
  }) as unknown as HostSummary;

const entry = (name: string, kind: FileEntry["kind"] = "file", part: Partial<FileEntry> = {}): FileEntry => ({
  name: { text: name },
  kind,
  bytes: 5,
  mode: 0o640,
  owner: "root",
  group: "root",
  changedAt: "2026-11-27T08:00:00Z",
  ...part,
});

const find = (of: HostSummary, path: string, kind: FileEntry["kind"] = "file"): Find => ({
  id: `${of.id} ${path}`,
  host: of,
  path: { text: path },
  entry: entry(path.slice(path.lastIndexOf("/") + 1), kind),
});

const hashOf = (text: string) => createHash("sha256").update(text).digest("base64");

/** Hosts with folders and files by their whole paths; a text of `Error` is why a file can't be read. */
class Hosts {
  lines: string[] = [];
  closed = 0;
  from: number[] = [];
  /** So often the line breaks within a file, after its first byte. */
  breaks = 0;
  refuses: string | undefined;
  lies = false;

  constructor(private readonly files: Record<string, Record<string, string | Error | FileEntry>>) {}

  reach: ReachFiles = (of) => {
    this.lines.push(of.label);
    let over: Error | undefined;
    const ends = (why: Error) => {
      over = why;
      return Promise.reject(why);
    };
    const { refuses } = this;
    const files = this.files[of.label] ?? {};
    return {
      get over() {
        return over;
      },
      walk: (path, some) => {
        if (refuses) return ends(new Error(refuses));
        const below = Object.keys(files).filter((name) => name.startsWith(`${path.text}/`));
        some(
          below.map((name) => {
            const what = files[name];
            const short = name.slice(path.text.length + 1);
            return typeof what === "object" && "kind" in what ? { ...what, name: { text: short } } : entry(short);
          }),
        );
        return Promise.resolve<FileWord>({ done: true });
      },
      read: (path, read, word, data) => {
        if (refuses) return ends(new Error(refuses));
        const what = files[path.text];
        if (typeof what !== "string") return Promise.reject(what instanceof Error ? what : new Error("There is none."));
        const from = read.from ?? 0;
        this.from.push(from);
        word({ entry: entry(path.text, "file", { bytes: what.length, version: "1" }), from });
        const bytes = new TextEncoder().encode(what);
        if (this.breaks > 0) {
          this.breaks--;
          data(bytes.slice(from, from + 1));
          return ends(new LineBroken("The line to the host broke."));
        }
        data(bytes.slice(from));
        return Promise.resolve<FileWord>({ done: true, sha256: hashOf(this.lies ? "another" : what) });
      },
      close: () => this.closed++,
    };
  };
}

/** Gathers until it is over. */
async function gather(hosts: Hosts, finds: Find[], called?: (folder: string, path: string) => string) {
  let zip: Blob | undefined;
  const last = await new Promise<Fetching>((resolve) => {
    new Gathering(
      finds,
      zipArchive(),
      (at) => ["done", "failed", "stopped"].includes(at.state) && resolve(at),
      (content) => (zip = content),
      hosts.reach,
      called,
    );
  });
  return { last, files: zip ? await contentOf(zip) : undefined };
}

async function contentOf(zip: Blob): Promise<Record<string, string>> {
  const found: Record<string, string> = {};
  for (const one of await new ZipReader(new BlobReader(zip)).getEntries()) {
    const mode = `${(one.externalFileAttributes >>> 16).toString(8)} ${one.lastModDate.toISOString().slice(0, 10)}`;
    const text = one.directory ? "" : await one.getData(new TextWriter());
    found[one.filename] = text ? `${text} (${mode})` : `(${mode})`;
  }
  return found;
}

describe("files of many hosts in one archive", () => {
  it("lie below their host's name by their whole path, folders with all below them, with times and modes", async () => {
    const [a, b] = [host("quay-ticket-01"), host("quay-ticket-02")];
    const hosts = new Hosts({
      "quay-ticket-01": {
        "/etc/kiosk/kiosk.conf": "lamp = on",
        "/etc/kiosk/empty": entry("", "folder", { mode: 0o755 }),
        "/etc/kiosk/current": entry("", "link", { target: { text: "kiosk.conf" }, mode: 0o777 }),
        "/var/log/kiosk.log": "one line",
      },
      "quay-ticket-02": { "/var/log/kiosk.log": "two lines" },
    });
    const { last, files } = await gather(hosts, [
      find(a, "/etc/kiosk", "folder"),
      // Lies in what is fetched already.
      find(a, "/etc/kiosk/kiosk.conf"),
      find(a, "/var/log/kiosk.log"),
      find(b, "/var/log/kiosk.log"),
    ]);
    expect(files).toEqual({
      "quay-ticket-01/etc/kiosk/": "(40640 2026-11-27)",
      "quay-ticket-01/etc/kiosk/kiosk.conf": "lamp = on (100640 2026-11-27)",
      "quay-ticket-01/etc/kiosk/empty/": "(40755 2026-11-27)",
      "quay-ticket-01/etc/kiosk/current": "kiosk.conf (120777 2026-11-27)",
      "quay-ticket-01/var/log/kiosk.log": "one line (100640 2026-11-27)",
      "quay-ticket-02/var/log/kiosk.log": "two lines (100640 2026-11-27)",
    });
    expect(last).toMatchObject({ state: "done", note: "3 files of 2 hosts.", problems: [] });
    expect(last.here).toBe("lamp = on".length + "one line".length + "two lines".length);
    expect(hosts.lines.sort()).toEqual(["quay-ticket-01", "quay-ticket-02"]);
    expect(hosts.closed).toBe(2);
  });

  it("lie below the folder's own name where it is one folder", async () => {
    const hosts = new Hosts({ "quay-ticket-01": { "/etc/kiosk/kiosk.conf": "lamp = on" } });
    const { files } = await gather(
      hosts,
      [find(host("quay-ticket-01"), "/etc/kiosk", "folder")],
      belowItself({ text: "/etc/kiosk" }),
    );
    expect(Object.keys(files ?? {})).toEqual(["kiosk/", "kiosk/kiosk.conf"]);
  });

  it("come without what can't be read, which is told", async () => {
    const hosts = new Hosts({
      "quay-ticket-01": { "/a": "1", "/b": new Error("You may not read it."), "/c": "3" },
    });
    const one = host("quay-ticket-01");
    const away = host("quay-ticket-09", { presence: { state: "away" } as HostSummary["presence"] });
    const { last, files } = await gather(hosts, [
      find(one, "/a"),
      find(one, "/b"),
      find(one, "/c"),
      find(one, "/run/kiosk.sock", "socket"),
      find(away, "/a"),
    ]);
    expect(Object.keys(files ?? {})).toEqual(["quay-ticket-01/a", "quay-ticket-01/c"]);
    expect(last.problems?.map((p) => `${p.host}: ${p.text}`).sort()).toEqual([
      "quay-ticket-01: /b: You may not read it.",
      "quay-ticket-01: /run/kiosk.sock: A socket has no content that could be fetched.",
      "quay-ticket-09: It is away.",
    ]);
  });

  it("go on over another line where one breaks, from the byte that is here", async () => {
    const hosts = new Hosts({ "quay-ticket-01": { "/a": "0123456789", "/b": "next" } });
    hosts.breaks = 2;
    const one = host("quay-ticket-01");
    const { last, files } = await gather(hosts, [find(one, "/a"), find(one, "/b")]);
    expect(files).toMatchObject({ "quay-ticket-01/a": "0123456789 (100640 2026-11-27)" });
    expect(hosts.from).toEqual([0, 1, 2, 0]);
    expect(hosts.lines).toHaveLength(3);
    expect(last).toMatchObject({ state: "done", here: 14 });
  });

  it("are asked for once where the host refuses, and nothing is saved", async () => {
    const hosts = new Hosts({ "quay-ticket-01": { "/a": "1", "/b": "2" } });
    hosts.refuses = "The access key is missing.";
    const one = host("quay-ticket-01");
    const { last, files } = await gather(hosts, [find(one, "/a"), find(one, "/b"), find(one, "/c", "folder")]);
    expect(files).toBeUndefined();
    expect(last).toMatchObject({ state: "failed", note: "Nothing came.", here: 0 });
    expect(last.problems).toEqual([{ host: "quay-ticket-01", text: "The access key is missing." }]);
    expect(hosts.lines).toHaveLength(1);
  });

  it("are not kept where they are not what the host has read", async () => {
    const hosts = new Hosts({ "quay-ticket-01": { "/a": "1" } });
    hosts.lies = true;
    const { last, files } = await gather(hosts, [find(host("quay-ticket-01"), "/a")]);
    expect(files).toBeUndefined();
    expect(last.problems?.[0]?.text).toContain("the hashes differ");
  });

  it("are kept apart where their names look alike", async () => {
    const hosts = new Hosts({ "quay-ticket-01": { "/plan.svg": "1" } });
    const one = host("quay-ticket-01");
    const { files } = await gather(hosts, [find(one, "/plan.svg"), { ...find(one, "/plan.svg"), id: "other bytes" }]);
    expect(Object.keys(files ?? {})).toEqual(["quay-ticket-01/plan.svg", "quay-ticket-01/plan (2).svg"]);
  });

  it("can be stopped; nothing of them is kept then", async () => {
    let said: Fetching | undefined;
    let saved = false;
    let closed = false;
    const reach: ReachFiles = () => ({
      over: undefined,
      walk: () => Promise.resolve({}),
      read: () => new Promise(() => undefined),
      close: () => (closed = true),
    });
    const gathering = new Gathering(
      [find(host("quay-ticket-01"), "/a")],
      zipArchive(),
      (at) => (said = at),
      () => (saved = true),
      reach,
    );
    await vi.waitFor(() => expect(said?.bytes).toBe(5));
    gathering.stop();
    expect(said).toMatchObject({ state: "stopped", here: 0, note: "Stopped; nothing of it is kept." });
    expect([closed, saved]).toEqual([true, false]);
  });
});

describe("the folder of a host", () => {
  it("is its label, with its group before it where two are called alike, and never a way out", () => {
    const all = [host("desk"), host("Desk", { groupPath: "Copperbeech Libraries" }), host(".."), host("a/b")];
    const names = foldersOf(all);
    expect(all.map((h) => names.get(h))).toEqual([
      "Saltmarsh Ferry_Quay_desk",
      "Copperbeech Libraries_Desk",
      "_..",
      "a_b",
    ]);
  });
});
