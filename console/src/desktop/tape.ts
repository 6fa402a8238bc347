/** An entry of a recorded screen (docs/screen-recording.md). */
export interface TapeEntry {
  /** Seconds since the beginning; entries go forward. */
  at: number;
  kind: string;
  /** Where its bytes lie in the file: of RFB. */
  from: number;
  length: number;
  /** What the others tell. */
  said: Readonly<Record<string, unknown>>;
}

export interface Tape {
  control: boolean;
  entries: TapeEntry[];
}

const PIECE = 1024 * 1024;
const LONGEST_LINE = 64 * 1024;
const NEWLINE = 10;
const nothing: Readonly<Record<string, unknown>> = {};

/** Reads where everything lies in a recording. One that is still written, or was cut off, ends with its last whole entry. */
export async function readTape(blob: Blob): Promise<Tape> {
  const lines = new Lines(blob);
  const header = parse((await lines.next()) ?? "") as
    { version?: number; kind?: string; control?: boolean } | undefined;
  if (header?.kind !== "screen" || header.version !== 1)
    throw new Error("The file on the service is no recording: its first line is no header of version 1.");
  const entries: TapeEntry[] = [];
  let last = 0;
  for (let line = await lines.next(); line !== undefined; line = await lines.next()) {
    const entry = parse(line);
    if (!Array.isArray(entry) || typeof entry[0] !== "number" || typeof entry[1] !== "string")
      throw new Error(`The recording is broken: its entry ${String(entries.length + 1)} is none.`);
    last = Math.max(last, entry[0]);
    const [, kind, what] = entry as [number, string, unknown];
    if (kind === "rfb") {
      const length = typeof what === "number" && what >= 0 ? what : -1;
      if (length < 0)
        throw new Error(`The recording is broken: its entry ${String(entries.length + 1)} has no length.`);
      const from = lines.at;
      if (from + length > blob.size) break;
      lines.skip(length);
      entries.push({ at: last, kind, from, length, said: nothing });
    } else {
      const said = what !== null && typeof what === "object" ? (what as Record<string, unknown>) : nothing;
      entries.push({ at: last, kind, from: 0, length: 0, said });
    }
  }
  return { control: header.control === true, entries };
}

/** Lines of a file between which bytes lie that are none, read piece by piece. */
class Lines {
  #piece = new Uint8Array();
  #start = 0;
  #at = 0;

  constructor(private readonly blob: Blob) {}

  /** Where the next line begins. */
  get at(): number {
    return this.#at;
  }

  skip(length: number): void {
    this.#at += length;
  }

  /** The next whole line, without its end. */
  async next(): Promise<string | undefined> {
    for (let most = PIECE; ; most *= 2) {
      const within = this.#at - this.#start;
      if (within >= 0 && within < this.#piece.length) {
        const end = this.#piece.indexOf(NEWLINE, within);
        if (end >= 0) {
          this.#at = this.#start + end + 1;
          return new TextDecoder().decode(this.#piece.subarray(within, end));
        }
        if (this.#piece.length - within > LONGEST_LINE)
          throw new Error("The recording is broken: a line of it is too long.");
      }
      if (this.#start + this.#piece.length >= this.blob.size && within >= 0 && this.#piece.length > 0 && most > PIECE)
        return undefined;
      if (this.#at >= this.blob.size) return undefined;
      this.#start = this.#at;
      this.#piece = new Uint8Array(await this.blob.slice(this.#at, this.#at + most).arrayBuffer());
    }
  }
}

/** What an entry tells, in words; nothing of what is seen anyway. */
export function wordsOf({ kind, said }: Pick<TapeEntry, "kind" | "said">): string | undefined {
  const text = (name: string) => (typeof said[name] === "string" ? said[name] : "");
  switch (kind) {
    case "open":
      return `screen ${text("screen")}, ${text("person") ? `of ${text("person")}` : "nobody logged in"}`;
    case "gone":
      return `the screen is gone: ${text("why")}`;
    case "typing":
      return "something is typed";
    case "clipboard": {
      const size = `${String(said.bytes)} bytes`;
      return said.from === "host"
        ? `the host’s clipboard came, ${size}`
        : `a text went to the host’s clipboard, ${size}`;
    }
    case "input":
      return said.taken === true ? "the keyboards of the host are taken" : "the keyboards of the host are given back";
    case "secret":
      return `a secret is typed, unseen: ${text("name")}`;
    case "mark":
    case "act":
      return text("text");
    default:
      return undefined;
  }
}

const named: Partial<Record<number, string>> = {
  0xff08: "⌫",
  0xff09: "⇥",
  0xff0d: "↵",
  0xff1b: "Esc ",
  0xff51: "←",
  0xff52: "↑",
  0xff53: "→",
  0xff54: "↓",
  0xffe3: "Ctrl ",
  0xffe9: "Alt ",
  0xffff: "Del ",
};

/** A key that went down, to be read; nothing of one that shows nothing. */
export function readableKey(said: Readonly<Record<string, unknown>>): string {
  const sym = said.down === true && typeof said.sym === "number" ? said.sym : 0;
  if (named[sym]) return named[sym];
  if (sym >= 0x20 && sym <= 0xff) return String.fromCodePoint(sym);
  return sym >= 0x01000100 && sym <= 0x0110ffff ? String.fromCodePoint(sym - 0x01000000) : "";
}

const parse = (line: string): unknown => {
  try {
    return JSON.parse(line);
  } catch {
    return undefined;
  }
};
