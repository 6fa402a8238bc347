/** A recorded shell, as asciicast v2 has it. */
export interface Cast {
  columns: number;
  rows: number;
  /** By time; seconds since the beginning. */
  events: CastEvent[];
  /** Seconds from the beginning to the last event. */
  length: number;
}

export interface CastEvent {
  at: number;
  kind: "output" | "input" | "size" | "mark";
  text: string;
}

const KINDS: Partial<Record<string, CastEvent["kind"]>> = { o: "output", i: "input", r: "size", m: "mark" };

/** Reads a recording. One that is still written ends with its last whole line; what is of no known kind is passed over. */
export function readCast(text: string): Cast {
  const lines = text.split("\n").filter((l) => l !== "");
  const header = parse(lines[0] ?? "") as { version?: number; width?: number; height?: number } | undefined;
  if (header?.version !== 2 || !header.width || !header.height)
    throw new Error("The file on the service is no recording: its first line is no header of version 2.");
  const events: CastEvent[] = [];
  let last = 0;
  for (const [number, line] of lines.entries()) {
    if (number === 0) continue;
    const event = parse(line);
    if (!Array.isArray(event) || typeof event[0] !== "number" || typeof event[2] !== "string") {
      if (number === lines.length - 1) break;
      throw new Error(`The recording is broken: its line ${String(number + 1)} is no event.`);
    }
    const kind = KINDS[String(event[1])];
    if (!kind) continue;
    // Events go forward: one that lies before its forerunner comes with it.
    last = Math.max(last, event[0]);
    events.push({ at: last, kind, text: event[2] });
  }
  return { columns: header.width, rows: header.height, events, length: last };
}

/** "120x40" of a new size. */
export function sizeOf(text: string): { columns: number; rows: number } | undefined {
  const [, columns, rows] = /^(\d{1,4})x(\d{1,4})$/.exec(text) ?? [];
  return columns && rows && Number(columns) > 0 && Number(rows) > 0
    ? { columns: Math.min(Number(columns), 1000), rows: Math.min(Number(rows), 1000) }
    : undefined;
}

const NAMED: Partial<Record<string, string>> = { "\r": "↵", "\n": "↵", "\t": "⇥", "\u007f": "⌫", "\u001b": "Esc " };
const ARROWS: Partial<Record<string, string>> = { A: "↑", B: "↓", C: "→", D: "←" };

/** What was typed, to be read: keys that show nothing get signs or names. */
export function readableKeys(typed: string): string {
  let shown = "";
  for (let i = 0; i < typed.length; i++) {
    const key = typed.charAt(i);
    const arrow =
      key === "\u001b" && "[O".includes(typed.charAt(i + 1) || " ") ? ARROWS[typed.charAt(i + 2)] : undefined;
    if (arrow) {
      shown += arrow;
      i += 2;
    } else shown += NAMED[key] ?? (key < " " ? `Ctrl-${String.fromCharCode(key.charCodeAt(0) + 64)} ` : key);
  }
  return shown;
}

const parse = (line: string): unknown => {
  try {
    return JSON.parse(line);
  } catch {
    return undefined;
  }
};
