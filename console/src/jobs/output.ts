import type { OutputPiece } from "../api/types";

export interface OutputPart {
  stream: "stdout" | "stderr";
  text: string;
}

/** What is kept on screen of one run; the whole can be downloaded. */
export const SHOWN_CHARACTERS = 200_000;

// Control characters other than tab and line end, and what turns the direction of writing, become visible marks.
// eslint-disable-next-line no-control-regex
const hidden = /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]/g;

export function neutralise(text: string): string {
  return text
    .replaceAll("\r\n", "\n")
    .replace(hidden, (c) => (c.charCodeAt(0) < 0x20 ? String.fromCharCode(0x2400 + c.charCodeAt(0)) : "\u2426"));
}

function fromBase64(data: string): Uint8Array {
  const raw = atob(data);
  const bytes = new Uint8Array(raw.length);
  for (let i = 0; i < raw.length; i++) bytes[i] = raw.charCodeAt(i);
  return bytes;
}

/** The output of one run as it arrives: text in order, cut at the front when it grows too long. */
export class RunOutput {
  parts: readonly OutputPart[] = [];
  /** True when the beginning is no longer shown. */
  cut = false;
  private last = -1;
  // A letter may be cut in two by the edge of a piece; each stream has its own decoder.
  private decoders = { stdout: new TextDecoder(), stderr: new TextDecoder() };

  /** Takes a piece; one that was taken before (after a broken line) is passed over. */
  add(piece: OutputPiece) {
    if (piece.sequence <= this.last) return;
    this.last = piece.sequence;
    const text = neutralise(this.decoders[piece.stream].decode(fromBase64(piece.data), { stream: true }));
    const end = this.parts.at(-1);
    const parts =
      end?.stream === piece.stream
        ? [...this.parts.slice(0, -1), { stream: end.stream, text: end.text + text }]
        : [...this.parts, { stream: piece.stream, text }];
    let length = parts.reduce((sum, p) => sum + p.text.length, 0);
    while (length > SHOWN_CHARACTERS) {
      const first = parts[0];
      if (!first) break;
      this.cut = true;
      const excess = length - SHOWN_CHARACTERS;
      if (first.text.length <= excess) parts.shift();
      else parts[0] = { ...first, text: first.text.slice(excess) };
      length = parts.reduce((sum, p) => sum + p.text.length, 0);
    }
    this.parts = parts;
  }
}
