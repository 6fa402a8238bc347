/// <reference lib="webworker" />
import { Painter } from "./painter";
import { cursorPng } from "./cursorPng";
import { ReplayDrawer } from "./replayDrawer";
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
let drawer: ReplayDrawer | undefined;

const fail = (e: unknown) => post({ kind: "problem", problem: e instanceof Error ? e.message : String(e) });

async function open(blob: Blob): Promise<void> {
  if (!painter) return;
  const tape = await readTape(blob);
  drawer = new ReplayDrawer(painter, blob, tape.entries, {
    cursor: (c) => void cursorPng(c).then((png) => post({ kind: "cursor", hotX: c.hotX, hotY: c.hotY, png })),
    pointer: (x, y) => post({ kind: "pointer", x, y }),
    reached: (to) => post({ kind: "shown", to }),
  });
  post({ kind: "tape", tape });
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
      open(data.blob).catch(fail);
      break;
    case "reset":
      drawer?.reset();
      break;
    case "show":
      drawer?.show(data.from, data.to).catch(fail);
      break;
  }
};
