import type { HostSummary } from "../api/types";
import type { Proof } from "../sessions/useProof";
import { Arrived, overLines, Pace } from "./arrived";
import { type Fetching, TELL_MS } from "./fetching";
import { freeName, inFolder } from "./files";
import { type FileEntry, type FileName, HostFiles, LineBroken } from "./hostFiles";
import { type Find, withoutInner } from "./searching";

/** Hosts that are read from side by side. */
const AT_ONCE = 4;

/** How hosts are reached; another one in tests. */
export type ReachFiles = (
  host: HostSummary,
  notice: (sentence: string) => void,
) => Pick<HostFiles, "walk" | "read" | "over" | "close">;

/** Hosts over lines of their own. */
export const reachFilesWith =
  (proof: Proof): ReachFiles =>
  (host, notice) =>
    new HostFiles(host.id, proof, { notice, over: () => undefined });

/** An archive that is written; what is put into it comes in any order. */
export interface Archive {
  add(name: string, entry: FileEntry, content: Blob | undefined): Promise<void>;
  close(): Promise<Blob>;
}

/**
 * Brings files and folders of many hosts into one archive: a folder for each host, below it everything by its whole path. What can't
 * be read is told and left out. Each file is what its host has read, by its hash.
 */
export class Gathering {
  #stopped = false;
  readonly #lines = new Set<{ close(): void }>();
  readonly #pace = new Pace();
  readonly #names = new Set<string>();
  readonly #hosts = new Map<HostSummary, Find[]>();
  #files = 0;
  #came = new Set<HostSummary>();
  /** Added to in place: it may be many thousand. */
  readonly #problems: { host: string; text: string }[] = [];
  #told = 0;
  #at: Fetching = { bytes: 0, here: 0, rate: 0, state: "going", problems: this.#problems };

  constructor(
    finds: Find[],
    private readonly archive: Archive,
    private readonly tell: (at: Fetching) => void,
    private readonly whole: (archive: Blob) => void,
    private readonly reach: ReachFiles,
    private readonly called: (folder: string, path: string) => string = (folder, path) => `${folder}${path}`,
  ) {
    const known = new Map<string, HostSummary>();
    for (const find of withoutInner(finds)) {
      const host = known.get(find.host.id) ?? find.host;
      known.set(host.id, host);
      const own = this.#hosts.get(host);
      if (own) own.push(find);
      else this.#hosts.set(host, [find]);
    }
    void this.#run();
  }

  stop(): void {
    if (this.#at.state !== "going" && this.#at.state !== "waiting") return;
    this.#stopped = true;
    for (const line of this.#lines) line.close();
    this.#say({ state: "stopped", here: 0, note: "Stopped; nothing of it is kept." });
  }

  async #run(): Promise<void> {
    try {
      const folders = foldersOf([...this.#hosts.keys()]);
      const waiting = [...this.#hosts];
      await Promise.all(
        Array.from({ length: Math.min(AT_ONCE, waiting.length) }, async () => {
          for (let next = waiting.shift(); next && !this.#stopped; next = waiting.shift()) {
            const [host, finds] = next;
            await this.#of(host, finds, folders.get(host) ?? host.id);
          }
        }),
      );
      if (this.#stopped) return;
      if (this.#names.size === 0) {
        this.#say({ state: "failed", note: "Nothing came." });
        return;
      }
      this.#say({ note: "Closing the archive …" });
      const archive = await this.archive.close();
      if (this.#stopped) return;
      this.whole(archive);
      const [files, hosts] = [this.#files, this.#came.size];
      this.#say({
        state: "done",
        rate: 0,
        note: `${files} ${files === 1 ? "file" : "files"} of ${hosts} ${hosts === 1 ? "host" : "hosts"}.`,
      });
    } catch (e) {
      if (!this.#stopped) this.#say({ state: "failed", note: e instanceof Error ? e.message : String(e) });
    }
  }

  /** Everything of one host, over one line as long as it holds. */
  async #of(host: HostSummary, finds: Find[], folder: string): Promise<void> {
    if (host.presence.state !== "linked") {
      this.#problem(host, "It is away.");
      return;
    }
    let line: ReturnType<ReachFiles> | undefined;
    const over = async <T>(once: (files: ReturnType<ReachFiles>) => Promise<T>, come: () => number): Promise<T> =>
      overLines(
        async () => {
          line ??= this.#open(host);
          try {
            return await once(line);
          } catch (e) {
            if (e instanceof LineBroken) {
              this.#leave(line);
              line = undefined;
            }
            throw e;
          }
        },
        come,
        (why) => this.#say({ state: "waiting", rate: 0, note: `${host.label}: ${why}` }),
        () => this.#stopped,
      );
    const refused = () => line?.over && !(line.over instanceof LineBroken);
    for (const find of finds) {
      const all = [{ path: find.path, entry: find.entry }];
      let walked = 0;
      try {
        if (find.entry.kind === "folder") {
          await over(
            (files) => {
              all.length = 1;
              return files.walk(find.path, (some) => {
                walked += some.length;
                for (const entry of some) all.push({ path: inFolder(find.path, entry.name), entry });
              });
            },
            () => walked,
          );
        }
      } catch (e) {
        if (!refused()) this.#problem(host, `${find.path.text}: ${wordsOf(e)}`);
      }
      this.#say({ bytes: this.#at.bytes + all.reduce((n, f) => n + (f.entry.kind === "file" ? f.entry.bytes : 0), 0) });
      for (const { path, entry } of all) {
        if (this.#stopped || refused()) break;
        try {
          await this.#one(host, folder, path, entry, over);
        } catch (e) {
          if (!refused()) this.#problem(host, `${path.text}: ${wordsOf(e)}`);
        }
      }
    }
    // What the host refuses as a whole is said once.
    if (line?.over && refused()) this.#problem(host, line.over.message);
    if (line) this.#leave(line);
  }

  async #one(
    host: HostSummary,
    folder: string,
    path: FileName,
    entry: FileEntry,
    over: <T>(once: (files: ReturnType<ReachFiles>) => Promise<T>, come: () => number) => Promise<T>,
  ): Promise<void> {
    if (entry.kind === "folder" || entry.kind === "link") {
      await this.#add(this.called(folder, path.text), entry, undefined);
      return;
    }
    if (entry.kind !== "file") throw new Error(`A ${entry.kind} has no content that could be fetched.`);
    let come = new Arrived();
    let version: string | undefined;
    const read = (files: ReturnType<ReachFiles>) =>
      files.read(
        path,
        { from: come.bytes, version },
        (word) => {
          if (word.entry) {
            if (word.from !== come.bytes) {
              this.#further(-come.bytes);
              come = new Arrived();
            }
            version = word.entry.version;
          }
          come.takeZeros(word.zeros ?? 0);
          this.#further(word.zeros ?? 0);
        },
        (bytes) => {
          come.take(bytes);
          this.#further(bytes.length);
        },
      );
    let content: Blob;
    try {
      content = come.whole((await over(read, () => come.bytes)).sha256);
    } catch (e) {
      this.#further(-come.bytes);
      throw e;
    }
    await this.#add(this.called(folder, path.text), entry, content);
    this.#files++;
    this.#came.add(host);
  }

  async #add(name: string, entry: FileEntry, content: Blob | undefined): Promise<void> {
    // Names that are no text may look alike.
    const free = this.#names.has(name) ? freeName(name, (other) => this.#names.has(other)) : name;
    this.#names.add(free);
    await this.archive.add(free, entry, content);
  }

  #open(host: HostSummary): ReturnType<ReachFiles> {
    const line = this.reach(host, (sentence) => this.#say({ note: `${host.label}: ${sentence}` }));
    this.#lines.add(line);
    return line;
  }

  #leave(line: { close(): void }): void {
    this.#lines.delete(line);
    line.close();
  }

  #further(bytes: number): void {
    if (this.#stopped) return;
    this.#at = { ...this.#at, here: this.#at.here + bytes };
    if (Date.now() - this.#told < TELL_MS) return;
    this.#say({ state: "going", note: undefined, rate: this.#pace.rate(this.#at.here) });
  }

  #problem(host: HostSummary, text: string): void {
    this.#problems.push({ host: host.label, text });
    this.#further(0);
  }

  #say(more: Partial<Fetching>): void {
    this.#told = Date.now();
    this.#at = { ...this.#at, ...more };
    this.tell(this.#at);
  }
}

const wordsOf = (e: unknown) => (e instanceof Error ? e.message : String(e));

/** Where something lies in the archive of one folder alone: below that folder's own name. */
export const belowItself =
  (top: FileName): ((folder: string, path: string) => string) =>
  (_, path) =>
    path.slice(top.text.replace(/\/+$/, "").lastIndexOf("/") + 1);

/** What the folder of each host is called: its label, with its group before it where another is called so too. */
export function foldersOf(hosts: HostSummary[]): Map<HostSummary, string> {
  const plain = (name: string) => {
    const one = name.replaceAll(/[/\\]/g, "_");
    return one === "." || one === ".." ? `_${one}` : one;
  };
  const key = (label: string) => plain(label).toLowerCase();
  const alike = new Map<string, number>();
  for (const { label } of hosts) alike.set(key(label), (alike.get(key(label)) ?? 0) + 1);
  const taken = new Set<string>();
  const folders = new Map<HostSummary, string>();
  for (const host of hosts) {
    const name = alike.get(key(host.label)) === 1 ? plain(host.label) : plain(`${host.groupPath}_${host.label}`);
    const free = taken.has(name.toLowerCase()) ? `${name} ${host.id}` : name;
    taken.add(free.toLowerCase());
    folders.set(host, free);
  }
  return folders;
}
