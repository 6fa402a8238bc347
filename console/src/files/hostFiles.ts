import { HostSocket } from "../sessions/hostSocket";
import type { Proof } from "../sessions/useProof";
import { dataRecord, Records, wordRecord } from "./records";

/** A name as the host knows it: bytes (base64) where they are no text. */
export interface FileName {
  text: string;
  bytes?: string;
}

export type FileKind = "file" | "folder" | "link" | "pipe" | "socket" | "device";

export interface FileEntry {
  name: FileName;
  kind: FileKind;
  bytes: number;
  mode: number;
  owner: string;
  group: string;
  changedAt: string;
  version?: string;
  target?: FileName;
  targetKind?: FileKind;
}

/** Something that was deleted and can be put back. */
export interface TrashItem {
  id: string;
  path: FileName;
  deletedAt: string;
  entry: FileEntry;
}

/** What files are looked for below a folder; what is left out says nothing. */
export interface FileSearch {
  folder: FileName;
  name?: string;
  kind?: FileKind;
  least?: number;
  since?: string;
  until?: string;
  owner?: string;
  text?: string;
}

/** One change: exactly one of these. */
export interface FileChange {
  folder?: FileName;
  move?: { from: FileName; to: FileName };
  delete?: FileName;
  erase?: FileName;
  restore?: string;
  empty?: string;
  pack?: { paths: FileName[]; to: FileName };
  unpack?: {
    archive: FileName;
    to: FileName;
    existing: "keep" | "replace" | "replace-older" | "rename";
    large: boolean;
  };
  set?: { path: FileName; mode?: number; owner?: string; group?: string; deep?: boolean };
}

/** A file that is written. */
export interface FileWrite {
  path: FileName;
  bytes: number;
  version: string;
  from?: number;
  replaces?: boolean;
  expects?: string | undefined;
  keepsOld?: boolean;
  changedAt?: string;
}

export interface FileWord {
  at?: FileName;
  entries?: FileEntry[];
  entry?: FileEntry;
  from?: number;
  zeros?: number;
  sha256?: string;
  changed?: boolean;
  problem?: string;
  done?: boolean;
  refusal?: string;
  notice?: string;
  trash?: TrashItem[];
  count?: number;
  differs?: boolean;
}

/** What is done with an answer while it comes. */
interface Answer {
  word(word: FileWord): void;
  data?(bytes: Uint8Array<ArrayBuffer>): void;
  resolve(word: FileWord): void;
  reject(problem: Error): void;
}

/** What the service says when somebody has ended it: that is not gone on from. */
const SESSION_ENDED = "The session has ended.";

/** The line ended before all was answered; asking again on another may go on. */
export class LineBroken extends Error {}

export interface FilesEvents {
  notice(sentence: string): void;
  over(why: string): void;
}

/** A channel to the files of a host, opened with the first question: questions are answered in the order in which they are asked. */
export class HostFiles {
  readonly #connect: () => HostSocket;
  #socket: HostSocket | undefined;
  #closed = false;
  readonly #asked: Answer[] = [];
  #unsent: ArrayBuffer[] | undefined = [];
  #over: Error | undefined;

  /** @param changes to change files and put some there; without, to look at them and read them. */
  constructor(hostId: string, proof: Proof, events: FilesEvents, changes = false) {
    const records = new Records(
      (text) => {
        const word = JSON.parse(text) as FileWord;
        if (word.notice) events.notice(word.notice);
        else if (word.refusal) this.#end(new Error(word.refusal), events);
        else this.#answer(word);
      },
      (bytes) => this.#asked[0]?.data?.(bytes),
    );
    this.#connect = () =>
      new HostSocket(
        hostId,
        { kind: "files", name: "files", wanted: { changes }, act: changes ? "write-files" : "read-files" },
        proof,
        {
          open: () => {
            for (const record of this.#unsent ?? []) this.#socket?.send(record);
            this.#unsent = undefined;
          },
          message: (data) => {
            try {
              records.take(data as ArrayBuffer);
            } catch (e) {
              this.#end(e instanceof Error ? e : new Error(String(e)), events);
              this.close();
            }
          },
          over: (why) =>
            this.#end(
              why === SESSION_ENDED ? new Error(why) : new LineBroken(why ?? "The line to the host broke."),
              events,
            ),
        },
      );
  }

  list(path: FileName, some: (entries: FileEntry[]) => void): Promise<FileWord> {
    return this.#ask({ list: path }, { word: (w) => w.entries && some(w.entries) });
  }

  /** Everything below a folder, by its path from there. */
  walk(path: FileName, some: (entries: FileEntry[]) => void): Promise<FileWord> {
    return this.#ask({ walk: path }, { word: (w) => w.entries && some(w.entries) });
  }

  /** Looks for files: they are told as they are found, and what can't be looked at beside them. */
  search(search: FileSearch, some: (word: FileWord) => void): Promise<FileWord> {
    return this.#ask({ search }, { word: some });
  }

  /** A file's SHA-256 in base64; its content is not sent. */
  async hash(path: FileName): Promise<string> {
    return (await this.#ask({ hash: path }, { word: () => undefined })).sha256 ?? "";
  }

  /** What is written from here on belongs together, as far as it lies below a path: the service hears of it once. */
  transfer(path: FileName): Promise<FileWord> {
    return this.#ask({ transfer: path }, { word: () => undefined });
  }

  look(path: FileName): Promise<FileWord> {
    return this.#ask({ look: path }, { word: () => undefined });
  }

  /** Reads a file. @param read where to begin in which version, and at most how much. */
  read(
    path: FileName,
    read: { from?: number; version?: string | undefined; most?: number },
    word: (word: FileWord) => void,
    data: (bytes: Uint8Array<ArrayBuffer>) => void,
  ): Promise<FileWord> {
    return this.#ask({ read: { path, from: 0, ...read } }, { word, data });
  }

  /** Makes, moves, deletes or sets something. @param some told how far a change of many is, and what was in its way. */
  change(change: FileChange, some: (word: FileWord) => void = () => undefined): Promise<FileWord> {
    return this.#ask({ change }, { word: some });
  }

  async trash(): Promise<TrashItem[]> {
    const items: TrashItem[] = [];
    await this.#ask({ trash: true }, { word: (w) => items.push(...(w.trash ?? [])) });
    return items;
  }

  /** How much is there of a file that was being written. */
  async part(path: FileName, version: string): Promise<number> {
    return (await this.#ask({ part: { path, version } }, { word: () => undefined })).from ?? 0;
  }

  /** Begins to write a file; its bytes and its end follow. Answered at its end, or before where nothing comes of it. */
  write(write: FileWrite): Promise<FileWord> {
    return this.#ask({ write }, { word: () => undefined });
  }

  /** Bytes of the file that is written. */
  data(bytes: Uint8Array): void {
    this.#send(dataRecord(bytes));
  }

  /** The end of it; without a hash nothing comes of it. */
  end(sha256: string | null): void {
    this.#send(wordRecord({ end: { sha256 } }));
  }

  /** Bytes that were given to the line and have not gone yet. */
  get waiting(): number {
    return this.#socket?.waiting ?? 0;
  }

  /** Why the host answers nothing more over this; undefined while it does. */
  get over(): Error | undefined {
    return this.#over;
  }

  close(): void {
    this.#closed = true;
    this.#socket?.close();
    for (const answer of this.#asked.splice(0)) answer.reject(new LineBroken("It was left."));
  }

  #ask(question: object, answer: Pick<Answer, "word" | "data">): Promise<FileWord> {
    return new Promise((resolve, reject) => {
      if (this.#over || this.#closed) {
        reject(this.#over ?? new LineBroken("It was left."));
        return;
      }
      this.#socket ??= this.#connect();
      this.#asked.push({ ...answer, resolve, reject });
      this.#send(wordRecord(question));
    });
  }

  #send(record: ArrayBuffer): void {
    if (this.#unsent) this.#unsent.push(record);
    else this.#socket?.send(record);
  }

  #answer(word: FileWord): void {
    const answer = this.#asked[0];
    if (!answer) return;
    answer.word(word);
    if (!word.done) return;
    this.#asked.shift();
    if (word.problem) answer.reject(new Error(word.problem));
    else answer.resolve(word);
  }

  #end(why: Error, events: FilesEvents): void {
    if (this.#over) return;
    this.#over = why;
    for (const answer of this.#asked.splice(0)) answer.reject(why);
    events.over(why.message);
  }
}
