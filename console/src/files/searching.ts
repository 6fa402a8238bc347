import type { HostSummary } from "../api/types";
import type { Proof } from "../sessions/useProof";
import { inFolder } from "./files";
import { type FileEntry, type FileName, type FileSearch, HostFiles } from "./hostFiles";

/** Hosts that are looked at side by side. */
const AT_ONCE = 8;

/** More finds are not kept; the search ends there. */
export const MOST_FOUND = 20_000;

/** Something that was found. */
export interface Find {
  id: string;
  host: HostSummary;
  path: FileName;
  entry: FileEntry;
  /** In hexadecimal digits, once it was asked for. */
  sha256?: string;
  /** What became of it. */
  note?: string;
}

export interface Search {
  finds: Find[];
  /** Hosts that have been looked at to their ends. */
  looked: number;
  hosts: number;
  /** Files and folders that were looked at, on hosts that are done. */
  seen: number;
  problems: { host: string; text: string }[];
  state: "going" | "done" | "stopped";
}

/** How hosts are reached; another one in tests. */
export type Reach = (
  host: HostSummary,
  changes: boolean,
  over: (why: string) => void,
) => Pick<HostFiles, "search" | "hash" | "change" | "close">;

const reachWith =
  (proof: Proof): Reach =>
  (host, changes, over) =>
    new HostFiles(host.id, proof, { notice: () => undefined, over }, changes);

/** Looks for files on many hosts, a few at a time, and does something with what was found. */
export class FilesSearch {
  #at: Search;
  #stopped = false;
  readonly #open = new Set<{ close(): void }>();
  readonly #reach: Reach;

  constructor(
    private readonly hosts: HostSummary[],
    private readonly searches: FileSearch[],
    proof: Proof,
    private readonly tell: (at: Search) => void,
    reach: Reach = reachWith(proof),
  ) {
    this.#reach = reach;
    this.#at = { finds: [], looked: 0, hosts: hosts.length, seen: 0, problems: [], state: "going" };
    void this.#run();
  }

  stop(): void {
    if (this.#at.state !== "going") return;
    this.#stopped = true;
    for (const line of this.#open) line.close();
    this.#say({ state: "stopped" });
  }

  /** Asks hosts for the hashes of files that were found. */
  async hash(finds: Find[]): Promise<void> {
    await this.#each(finds, false, async (files, find) => {
      if (find.entry.kind !== "file") return {};
      return { sha256: hex(await files.hash(find.path)) };
    });
  }

  /** Puts what was found into the trash of its host. */
  async trash(finds: Find[]): Promise<void> {
    await this.#each(withoutInner(finds), true, async (files, find) => {
      await files.change({ delete: find.path });
      return { note: "in the trash" };
    });
    const gone = this.#at.finds.filter((f) => f.note === "in the trash");
    this.#say({
      finds: this.#at.finds.map((f) =>
        f.note !== "in the trash" && gone.some((g) => isBelow(g, f)) ? { ...f, note: "in the trash" } : f,
      ),
    });
  }

  async #run(): Promise<void> {
    const waiting = [...this.hosts];
    await Promise.all(
      Array.from({ length: Math.min(AT_ONCE, waiting.length) }, async () => {
        for (let host = waiting.shift(); host && !this.#stopped; host = waiting.shift()) await this.#on(host);
      }),
    );
    if (!this.#stopped) this.#say({ state: "done" });
  }

  async #on(host: HostSummary): Promise<void> {
    if (host.presence.state !== "linked") {
      this.#problem(host, "It is away, and was not looked at.");
      this.#say({ looked: this.#at.looked + 1 });
      return;
    }
    const files = this.#reach(host, false, () => undefined);
    this.#open.add(files);
    try {
      for (const search of this.searches) {
        const end = await files.search(search, (word) => {
          if (word.problem && !word.done) this.#problem(host, word.problem);
          this.#found(host, search, word.entries ?? []);
        });
        this.#say({ seen: this.#at.seen + (end.count ?? 0) });
      }
    } catch (e) {
      if (!this.#stopped) this.#problem(host, e instanceof Error ? e.message : String(e));
    } finally {
      this.#open.delete(files);
      files.close();
    }
    if (!this.#stopped) this.#say({ looked: this.#at.looked + 1 });
  }

  #found(host: HostSummary, search: FileSearch, entries: FileEntry[]): void {
    if (this.#stopped || entries.length === 0) return;
    const room = MOST_FOUND - this.#at.finds.length;
    const finds = entries.slice(0, room).map((entry) => {
      const path = inFolder(search.folder, entry.name);
      return { id: `${host.id} ${path.text} ${path.bytes ?? ""}`, host, path, entry };
    });
    this.#say({ finds: [...this.#at.finds, ...finds] });
    if (entries.length >= room) {
      this.#problem(host, `${MOST_FOUND} were found by then, the most that are shown; look for something rarer.`);
      this.stop();
    }
  }

  /** Does something with each, host by host. */
  async #each(
    finds: Find[],
    changes: boolean,
    act: (files: ReturnType<Reach>, find: Find) => Promise<Partial<Find>>,
  ): Promise<void> {
    for (const hostId of new Set(finds.map((f) => f.host.id))) {
      const own = finds.filter((f) => f.host.id === hostId);
      const host = own[0]?.host;
      if (!host) continue;
      const files = this.#reach(host, changes, () => undefined);
      await Promise.all(
        own.map(async (find) => {
          try {
            this.#change(find, await act(files, find));
          } catch (e) {
            this.#change(find, { note: e instanceof Error ? e.message : String(e) });
          }
        }),
      );
      files.close();
    }
  }

  #change(find: Find, part: Partial<Find>): void {
    this.#say({ finds: this.#at.finds.map((f) => (f.id === find.id ? { ...f, ...part } : f)) });
  }

  #problem(host: HostSummary, text: string): void {
    this.#say({ problems: [...this.#at.problems, { host: host.label, text }] });
  }

  #say(part: Partial<Search>): void {
    this.#at = { ...this.#at, ...part };
    this.tell(this.#at);
  }
}

const hex = (base64: string) => Array.from(atob(base64), (c) => c.charCodeAt(0).toString(16).padStart(2, "0")).join("");

const isBelow = (folder: Find, find: Find) =>
  folder.host.id === find.host.id && find.path.text.startsWith(`${folder.path.text}/`);

/** Without what lies in a folder that is among them: it goes with it. */
export function withoutInner(finds: Find[]): Find[] {
  const there = new Set(finds.map((f) => `${f.host.id} ${f.path.text}`));
  return finds.filter((f) => {
    const path = f.path.text;
    for (let at = path.lastIndexOf("/"); at > 0; at = path.lastIndexOf("/", at - 1))
      if (there.has(`${f.host.id} ${path.slice(0, at)}`)) return false;
    return true;
  });
}

export interface SearchForm {
  folders: string;
  name: string;
  leastMiB: string;
  days: string;
  text: string;
}

/** Why a search can't begin; undefined where it can. */
export function missingOf(form: SearchForm): string | undefined {
  const folders = foldersIn(form.folders);
  const odd = folders.find((f) => !f.startsWith("/"));
  if (folders.length === 0) return "Name a folder to look in, such as /srv";
  if (odd) return `${odd} is no whole path; write it from the root`;
  if (form.leastMiB.trim() && !(Number(form.leastMiB) >= 0))
    return `${form.leastMiB} is no size; write a number of MiB`;
  if (form.days.trim() && !(Number(form.days) > 0)) return `${form.days} is no number of days`;
  if (form.name.includes("/")) return "A name has no slash in it; say the folder by itself";
  return undefined;
}

const foldersIn = (text: string) =>
  text
    .split(",")
    .map((f) => f.trim())
    .filter(Boolean);

/** What hosts are asked: one search for each folder. */
export function searchesOf(form: SearchForm, now: number): FileSearch[] {
  return foldersIn(form.folders).map((folder) => ({
    folder: { text: folder },
    ...(form.name.trim() && { name: form.name.trim() }),
    ...(form.leastMiB.trim() && { least: Math.round(Number(form.leastMiB) * 1024 * 1024) }),
    ...(form.days.trim() && { since: new Date(now - Number(form.days) * 86_400_000).toISOString() }),
    ...(form.text && { text: form.text }),
  }));
}

/** "44 found on 3 hosts; 5 of 12 hosts looked at". */
export function searchWords(at: Search): string {
  const on = new Set(at.finds.map((f) => f.host.id)).size;
  const found = `${at.finds.length.toLocaleString("en")} found${at.finds.length > 0 ? ` on ${on} ${on === 1 ? "host" : "hosts"}` : ""}`;
  const looked = `${at.looked} of ${at.hosts} ${at.hosts === 1 ? "host" : "hosts"} looked at`;
  return at.state === "going"
    ? `${found}; ${looked}`
    : at.state === "stopped"
      ? `${found}; stopped with ${looked}`
      : `${found}; ${looked}`;
}
