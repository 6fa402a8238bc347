/** How a text lies in a file. */
export type Encoding = "utf-8" | "utf-8-mark" | "utf-16le" | "utf-16be" | "latin-1";

export const encodingWords: Record<Encoding, string> = {
  "utf-8": "UTF-8",
  "utf-8-mark": "UTF-8 with a byte order mark",
  "utf-16le": "UTF-16, little-endian",
  "utf-16be": "UTF-16, big-endian",
  "latin-1": "Latin-1 (ISO 8859-1)",
};

/** A text as it was found. */
export interface FoundText {
  text: string;
  encoding: Encoding;
}

/** Control characters that no text has, but for those of lines, tabs and escapes. */
const odd = new Set([
  ...Array.from({ length: 9 }, (_, n) => n),
  ...Array.from({ length: 13 }, (_, n) => n + 14),
  28,
  29,
  30,
  31,
  127,
]);

/** Reads a text of any encoding that it shows: by its mark, as UTF-8, or byte by byte. @returns undefined where the bytes are no text. */
export function readText(bytes: Uint8Array): FoundText | undefined {
  if (bytes[0] === 0xff && bytes[1] === 0xfe) return wide(bytes, "utf-16le");
  if (bytes[0] === 0xfe && bytes[1] === 0xff) return wide(bytes, "utf-16be");
  if (bytes.includes(0)) return undefined;
  const marked = bytes[0] === 0xef && bytes[1] === 0xbb && bytes[2] === 0xbf;
  try {
    const text = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(marked ? bytes.slice(3) : bytes);
    return { text, encoding: marked ? "utf-8-mark" : "utf-8" };
  } catch {
    if (bytes.some((b) => odd.has(b))) return undefined;
    // What is no UTF-8 is one letter for each byte, so that all of it comes back as it was.
    return { text: Array.from(bytes, (b) => String.fromCharCode(b)).join(""), encoding: "latin-1" };
  }
}

function wide(bytes: Uint8Array, encoding: "utf-16le" | "utf-16be"): FoundText | undefined {
  if (bytes.length % 2 === 1) return undefined;
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.length);
  let text = "";
  for (let at = 2; at < bytes.length; at += 2) text += String.fromCharCode(view.getUint16(at, encoding === "utf-16le"));
  return { text, encoding };
}

/** The bytes of a text. @throws Error where the encoding has no letter for one of them. */
export function writeText({ text, encoding }: FoundText): Uint8Array<ArrayBuffer> {
  switch (encoding) {
    case "utf-8":
      return new TextEncoder().encode(text);
    case "utf-8-mark":
      return Uint8Array.from([0xef, 0xbb, 0xbf, ...new TextEncoder().encode(text)]);
    case "latin-1": {
      const lacking = Array.from(text).find((letter) => (letter.codePointAt(0) ?? 0) > 0xff);
      if (lacking)
        throw new Error(
          `The file is Latin-1, which has no ‘${lacking}’. Leave it out, or send the file anew as UTF-8.`,
        );
      return Uint8Array.from(text, (letter) => letter.charCodeAt(0));
    }
    default: {
      const bytes = new Uint8Array(2 + 2 * text.length);
      const view = new DataView(bytes.buffer);
      view.setUint16(0, 0xfeff, encoding === "utf-16le");
      for (let n = 0; n < text.length; n++) view.setUint16(2 + 2 * n, text.charCodeAt(n), encoding === "utf-16le");
      return bytes;
    }
  }
}

const lineEnd = /\r\n|\n|\r/g;

/** Lines of a text, each with its end. */
function lines(text: string): { line: string; end: string }[] {
  const found: { line: string; end: string }[] = [];
  let from = 0;
  for (const match of text.matchAll(lineEnd)) {
    found.push({ line: text.slice(from, match.index), end: match[0] });
    from = match.index + match[0].length;
  }
  found.push({ line: text.slice(from), end: "" });
  return found;
}

/** The line end that a text has most of; a line feed where it has none. */
function usualEnd(text: string): string {
  const counts = new Map<string, number>();
  for (const [end] of text.matchAll(lineEnd)) counts.set(end, (counts.get(end) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1])[0]?.[0] ?? "\n";
}

/** What the line ends of a text are called. */
export function endWords(text: string): string {
  const kinds = new Set(Array.from(text.matchAll(lineEnd), ([end]) => end));
  if (kinds.size > 1) return "mixed line ends";
  return kinds.has("\r\n") ? "CR LF at line ends" : kinds.has("\r") ? "CR at line ends" : "LF at line ends";
}

/** An edited text, whose lines all end in a line feed, with the line ends of what it was before: lines that stayed keep theirs, new ones get the usual one. */
export function withEndsOf(before: string, edited: string): string {
  const [old, now] = [lines(before), lines(edited)];
  let top = 0;
  while (top < old.length && top < now.length && old[top]?.line === now[top]?.line) top++;
  let bottom = 0;
  while (
    bottom < old.length - top &&
    bottom < now.length - top &&
    old[old.length - 1 - bottom]?.line === now[now.length - 1 - bottom]?.line
  )
    bottom++;
  const usual = usualEnd(before);
  return now
    .map(({ line, end }, n) => {
      const kept =
        n < top ? old[n]?.end : n >= now.length - bottom ? old[old.length - (now.length - n)]?.end : undefined;
      return line + (end === "" ? "" : kept || usual);
    })
    .join("");
}
