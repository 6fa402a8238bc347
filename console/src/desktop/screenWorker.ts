/// <reference lib="webworker" />
import { deflate } from "pako";
import { cursorPng } from "./cursorPng";
import { BETWEEN, type LineFigures, PATIENCE, PINGS, QUIET } from "./lineTest";
import { Painter } from "./painter";
import { type Part, RfbReader } from "./rfb";
import * as say from "./rfbSay";

/** What the page tells the one who draws. */
export type ToScreen =
  | { kind: "canvas"; canvas: OffscreenCanvas }
  | { kind: "begin" }
  | { kind: "bytes"; bytes: ArrayBuffer }
  | { kind: "give"; text: string }
  | { kind: "picture"; id: number }
  | { kind: "test" };

/** What he tells the page. */
export type FromScreen =
  | { kind: "say"; bytes: ArrayBuffer }
  | { kind: "size"; width: number; height: number }
  | { kind: "cursor"; hotX: number; hotY: number; png: string | undefined }
  | { kind: "pointer"; x: number; y: number }
  | { kind: "monitors"; monitors: Part[] }
  | { kind: "resized"; status: number }
  | { kind: "clipboard-there" }
  | { kind: "clipboard"; text: string | undefined }
  | { kind: "pace"; delay: number | undefined; frames: number; bytes: number }
  | { kind: "picture"; id: number; png: Blob }
  | { kind: "tested"; figures: LineFigures }
  | { kind: "problem"; problem: string };

const post = (message: FromScreen, transfer: Transferable[] = []) => self.postMessage(message, transfer);
const PING = 1000;

let painter: Painter | undefined;
let reader: RfbReader | undefined;
let frames = 0;
let received = 0;
let delay: number | undefined;
let size = { width: 0, height: 0 };

/** While the line is looked at: how long each word of it took, what came, and when the last of it. */
let test: { delays: number[]; bytes: number; lastAt: number } | undefined;

function tell(bytes: Uint8Array<ArrayBuffer>): void {
  post({ kind: "say", bytes: bytes.buffer }, [bytes.buffer]);
}

function begin(): void {
  delay = undefined;
  reader = new RfbReader({
    say: tell,
    name: () => undefined,
    draw: (strokes) => painter?.draw(strokes),
    afterDrawing: (bytes) => painter?.after(() => tell(bytes)),
    cursor: (c) => void cursorPng(c).then((png) => post({ kind: "cursor", hotX: c.hotX, hotY: c.hotY, png })),
    pointer: (x, y) => post({ kind: "pointer", x, y }),
    monitors: (monitors) => post({ kind: "monitors", monitors }),
    resized: (status) => post({ kind: "resized", status }),
    fence: (payload) => {
      // Words of a test are longer by a byte, so that they are not taken for the others.
      if (payload.length === 9) test?.delays.push(performance.now() - new DataView(payload.buffer).getFloat64(0));
      if (payload.length === 8) delay = performance.now() - new DataView(payload.buffer).getFloat64(0);
    },
    clipboardThere: () => post({ kind: "clipboard-there" }),
    clipboard: (text) => post({ kind: "clipboard", text }),
  });
}

function fail(e: unknown): void {
  reader = undefined;
  post({ kind: "problem", problem: e instanceof Error ? e.message : String(e) });
}

/** The text goes there packed, with lines that end as the protocol wants it. */
function give(words: string): void {
  const bytes = new TextEncoder().encode(words.replaceAll("\r\n", "\n").replaceAll("\n", "\r\n") + "\0");
  const all = new Uint8Array(4 + bytes.length);
  new DataView(all.buffer).setUint32(0, bytes.length);
  all.set(bytes, 4);
  tell(say.clipboard(say.clipboardAct.provide, deflate(all)));
}

function ping(): void {
  if (reader) {
    const payload = new Uint8Array(8);
    new DataView(payload.buffer).setFloat64(0, performance.now());
    tell(say.fence(0x80000000, payload));
  }
  post({ kind: "pace", delay, frames, bytes: received });
  frames = received = 0;
}

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Says some words one after the other, and asks for a whole picture. */
async function look(): Promise<void> {
  if (test) return;
  const mine = (test = { delays: [] as number[], bytes: 0, lastAt: 0 });
  for (let i = 0; i < PINGS && reader; i++) {
    const payload = new Uint8Array(9);
    new DataView(payload.buffer).setFloat64(0, performance.now());
    tell(say.fence(0x80000000, payload));
    await pause(BETWEEN);
  }
  const began = performance.now();
  while (mine.delays.length < PINGS && performance.now() - began < 2_000) await pause(50);
  const [asked, before] = [performance.now(), mine.bytes];
  mine.lastAt = 0;
  if (reader) tell(say.requestUpdate(false, size.width, size.height));
  while (performance.now() - asked < PATIENCE && !(mine.lastAt && performance.now() - mine.lastAt > QUIET))
    await pause(25);
  post({
    kind: "tested",
    figures: { delays: mine.delays, bytes: mine.bytes - before, took: mine.lastAt ? mine.lastAt - asked : PATIENCE },
  });
  test = undefined;
}

self.setInterval(ping, PING);

self.onmessage = ({ data }: MessageEvent<ToScreen>) => {
  switch (data.kind) {
    case "canvas": {
      const context = data.canvas.getContext("2d", { alpha: false });
      painter =
        context === null
          ? undefined
          : new Painter(context, {
              size: (width, height) => {
                size = { width, height };
                post({ kind: "size", width, height });
              },
              drawn: () => frames++,
              failed: fail,
            });
      break;
    }
    case "begin":
      begin();
      break;
    case "bytes":
      received += data.bytes.byteLength;
      if (test) {
        test.bytes += data.bytes.byteLength;
        test.lastAt = performance.now();
      }
      try {
        reader?.feed(new Uint8Array(data.bytes));
      } catch (e) {
        fail(e);
      }
      break;
    case "give":
      give(data.text);
      break;
    case "test":
      void look();
      break;
    case "picture":
      painter?.after(async () => {
        const png = await (painter?.context.canvas as OffscreenCanvas).convertToBlob({ type: "image/png" });
        post({ kind: "picture", id: data.id, png });
      });
      break;
  }
};
