import type { FromReplay, ToReplay } from "./replayWorker";
import type { Tape, TapeEntry } from "./tape";

export interface ReplaySeen {
  tape: Tape | undefined;
  width: number;
  height: number;
  cursor: { hotX: number; hotY: number; png: string | undefined } | undefined;
  pointer: { x: number; y: number } | undefined;
  /** So many entries are drawn, of so many that are to be. */
  shown: number;
  wanted: number;
  problem: string | undefined;
}

export const unplayed: ReplaySeen = {
  tape: undefined,
  width: 0,
  height: 0,
  cursor: undefined,
  pointer: undefined,
  shown: 0,
  wanted: 0,
  problem: undefined,
};

/** A recorded desktop that is shown on a canvas; whoever draws it does so beside the page. */
export class Replay {
  #seen = unplayed;
  #next = 0;
  #listeners = new Set<() => void>();
  readonly #worker = new Worker(new URL("./replayWorker.ts", import.meta.url), { type: "module" });

  constructor(blob: Blob, canvas: HTMLCanvasElement) {
    this.#worker.onmessage = (e: MessageEvent<FromReplay>) => this.#hear(e.data);
    const drawn = canvas.transferControlToOffscreen();
    this.#tell({ kind: "canvas", canvas: drawn }, [drawn]);
    this.#tell({ kind: "open", blob });
  }

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  readonly seen = () => this.#seen;

  reset(): void {
    this.#next = 0;
    this.#tell({ kind: "reset" });
    this.#set({ pointer: undefined, shown: 0, wanted: 0 });
  }

  /** Shows what comes next on the tape. */
  show(entries: readonly TapeEntry[]): void {
    const from = this.#next;
    this.#next += entries.length;
    this.#tell({ kind: "show", from, to: this.#next });
    const mouse = entries.findLast((e) => e.kind === "mouse")?.said;
    this.#set({
      wanted: this.#next,
      ...(mouse && { pointer: { x: Number(mouse.x), y: Number(mouse.y) } }),
    });
  }

  dispose(): void {
    this.#worker.terminate();
    this.#listeners.clear();
  }

  #hear(message: FromReplay): void {
    switch (message.kind) {
      case "tape":
        this.#set({ tape: message.tape });
        break;
      case "size":
        this.#set({ width: message.width, height: message.height });
        break;
      case "cursor":
        this.#set({ cursor: { hotX: message.hotX, hotY: message.hotY, png: message.png } });
        break;
      case "pointer":
        this.#set({ pointer: { x: message.x, y: message.y } });
        break;
      case "shown":
        this.#set({ shown: message.to });
        break;
      case "problem":
        this.#set({ problem: message.problem });
        break;
    }
  }

  #tell(message: ToReplay, transfer: Transferable[] = []): void {
    this.#worker.postMessage(message, transfer);
  }

  #set(news: Partial<ReplaySeen>): void {
    this.#seen = { ...this.#seen, ...news };
    for (const listener of this.#listeners) listener();
  }
}
