/// <reference lib="webworker" />
import { Painter } from "./painter";
import { cursorPng } from "./cursorPng";
import { RfbReader } from "./rfb";
import { readTape, type Tape } from "./tape";

/** What the page tells the one who draws a recording. */
export type ToReplay =
  | { kind: "canvas"; canvas: OffscreenCanvas }
  | { kind: "open"; blob: Blob }
  | { kind: "reset" }
  /** Shows entries from one on, up to another, which is not among them. */
  | { kind: "show"; from: number; to: number };

/** What he tells the page. */
export type FromReplay =
  | { kind: "tape"; tape: Tape }
  | { kind: "size"; width: number; height: number }
  | { kind: "cursor"; hotX: number; hotY: number; png: string | undefined }
  | { kind: "pointer"; x: number; y: number }
  /** So many entries are drawn. */
  | { kind: "shown"; to: number }
  | { kind: "problem"; problem: string };

const post = (message: FromReplay) => self.postMessage(message);

let painter: Painter | undefined;
let reader: RfbReader | undefined;
let blob: Blob | undefined;
let tape: Tape | undefined;

/** Counts how often it began anew: what was asked for before is not drawn any more. */
let turn = 0;
let last = Promise.resolve();
/** Something is shown since. */
let shows = false;
const EMPTY_AFTER = 50;

const fail = (e: unknown) => post({ kind: "problem", problem: e instanceof Error ? e.message : String(e) });

function begin(): RfbReader {
  return new RfbReader({
    say: () => undefined,
    name: () => undefined,
    draw: (strokes) => painter?.draw(strokes),
    afterDrawing: () => undefined,
    cursor: (c) => void cursorPng(c).then((png) => post({ kind: "cursor", hotX: c.hotX, hotY: c.hotY, png })),
    pointer: (x, y) => post({ kind: "pointer", x, y }),
    monitors: () => undefined,
    resized: () => undefined,
    fence: () => undefined,
    clipboardThere: () => undefined,
    clipboard: () => undefined,
  });
}

async function show(from: number, to: number, asked: number): Promise<void> {
  for (let i = from; i < to && asked === turn; i++) {
    const entry = tape?.entries[i];
    if (entry?.kind === "open") reader = begin();
    if (entry?.kind !== "rfb" || !blob || !reader) continue;
    reader.feed(new Uint8Array(await blob.slice(entry.from, entry.from + entry.length).arrayBuffer()));
    // Not more than what is drawn is unpacked: what was recorded may be long.
    await painter?.drawn();
  }
  if (asked === turn) post({ kind: "shown", to });
}

self.onmessage = ({ data }: MessageEvent<ToReplay>) => {
  switch (data.kind) {
    case "canvas": {
      const context = data.canvas.getContext("2d", { alpha: false });
      if (context)
        painter = new Painter(context, {
          size: (width, height) => post({ kind: "size", width, height }),
          drawn: () => undefined,
          failed: fail,
        });
      break;
    }
    case "open":
      blob = data.blob;
      last = last
        .then(async () => {
          tape = await readTape(data.blob);
          post({ kind: "tape", tape });
        })
        .catch(fail);
      break;
    case "reset": {
      const began = ++turn;
      reader = undefined;
      shows = false;
      // Where nothing follows at once, nothing was to be seen then.
      setTimeout(() => {
        if (began === turn && !shows) painter?.clear();
      }, EMPTY_AFTER);
      break;
    }
    case "show": {
      const asked = turn;
      shows = true;
      last = last.then(() => show(data.from, data.to, asked)).catch(fail);
      break;
    }
  }
};
