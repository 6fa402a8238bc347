import type { HostSummary } from "../api/types";
import { HostSocket } from "../sessions/hostSocket";
import { Painter } from "./painter";
import { RfbReader } from "./rfb";

/** As wide as the service is asked for. */
export const SMALL = 320;
const AGAIN_AFTER = 20_000;

/** Opens no more lines at once than that, so that many screens don't come all together. */
const MOST_OPENING = 6;
const waiting: (() => void)[] = [];
let opening = 0;

function turn(act: () => void): void {
  if (opening < MOST_OPENING) {
    opening++;
    act();
  } else waiting.push(act);
}

function done(): void {
  const next = waiting.shift();
  if (next) next();
  else opening--;
}

export interface SmallSeen {
  /** Why there is nothing to see; undefined while it is asked for, and once it is there. */
  problem: string | undefined;
  there: boolean;
}

/** A small picture of a host's screen, that is looked at once a second. */
export class SmallScreen {
  #socket: HostSocket | undefined;
  #left = false;
  #timer: number | undefined;
  #isOpening = false;
  #refused = false;

  constructor(
    private readonly host: HostSummary,
    private readonly canvas: HTMLCanvasElement,
    private readonly changed: (seen: SmallSeen) => void,
  ) {
    this.#ask();
  }

  leave(): void {
    this.#left = true;
    window.clearTimeout(this.#timer);
    this.#socket?.close();
    this.#opened();
  }

  #ask(): void {
    turn(() => {
      this.#isOpening = true;
      if (this.#left) this.#opened();
      else this.#open();
    });
  }

  #opened(): void {
    if (this.#isOpening) done();
    this.#isOpening = false;
  }

  #open(): void {
    const context = this.canvas.getContext("2d", { alpha: false });
    if (!context) return;
    let reader: RfbReader | undefined;
    const fail = (e: unknown) => this.#over(e instanceof Error ? e.message : String(e));
    const painter = new Painter(context, {
      size: () => undefined,
      drawn: () => this.changed({ problem: undefined, there: true }),
      failed: fail,
    });
    const socket = new HostSocket(
      this.host.id,
      { kind: "desktop", name: "desktop", wanted: { control: false, small: SMALL }, act: "watch" },
      { door: undefined, usesVault: false },
      {
        open: () => this.#opened(),
        message: (data) => {
          if (typeof data === "string") {
            const word = JSON.parse(data) as { refusal?: string; gone?: string; notice?: string; opened?: object };
            const why = word.refusal ?? word.gone ?? word.notice;
            if (why) this.changed({ problem: why, there: false });
            this.#refused ||= word.refusal !== undefined;
            if (word.opened)
              reader = new RfbReader({
                say: (bytes) => socket.send(bytes.buffer),
                name: () => undefined,
                draw: (strokes) => painter.draw(strokes),
                afterDrawing: (bytes) => painter.after(() => socket.send(bytes.buffer)),
                cursor: () => undefined,
                pointer: () => undefined,
                monitors: () => undefined,
                resized: () => undefined,
                fence: () => undefined,
                clipboardThere: () => undefined,
                clipboard: () => undefined,
              });
            return;
          }
          try {
            reader?.feed(new Uint8Array(data));
          } catch (e) {
            fail(e);
          }
        },
        over: (why) => this.#over(why),
      },
    );
    this.#socket = socket;
  }

  /** Tried again after a while, as hosts come and go while one looks at many; not where the host has said no. */
  #over(why: string | undefined): void {
    this.#opened();
    this.#socket?.close();
    if (this.#left || this.#refused) return;
    if (why) this.changed({ problem: why, there: false });
    window.clearTimeout(this.#timer);
    this.#timer = window.setTimeout(() => this.#ask(), AGAIN_AFTER);
  }
}
