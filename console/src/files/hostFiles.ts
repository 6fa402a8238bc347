import { HostSocket } from "../sessions/hostSocket";
import type { Proof } from "../sessions/useProof";
import { Records } from "./records";

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

export interface FileWord {
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
  #unsent: string[] | undefined = [];
  #over: Error | undefined;

  constructor(hostId: string, proof: Proof, events: FilesEvents) {
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
      new HostSocket(hostId, { kind: "files", name: "files", wanted: {}, act: "read-files" }, proof, {
        open: () => {
          for (const text of this.#unsent ?? []) this.#socket?.send(text);
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
      });
  }

  list(path: FileName, some: (entries: FileEntry[]) => void): Promise<FileWord> {
    return this.#ask({ list: path }, { word: (w) => w.entries && some(w.entries) });
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

  close(): void {
    this.#closed = true;
    this.#socket?.close();
    for (const answer of this.#asked.splice(0)) answer.reject(new LineBroken("It was left."));
  }

  #ask(question: object, answer: Pick<Answer, "word" | "data">): Promise<FileWord> {
    const text = JSON.stringify(question);
    return new Promise((resolve, reject) => {
      if (this.#over || this.#closed) {
        reject(this.#over ?? new LineBroken("It was left."));
        return;
      }
      this.#socket ??= this.#connect();
      this.#asked.push({ ...answer, resolve, reject });
      if (this.#unsent) this.#unsent.push(text);
      else this.#socket?.send(text);
    });
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
