import type { ChannelRecording, HostSummary } from "../api/types";
import { HostSocket } from "../sessions/hostSocket";
import type { Proof } from "../sessions/useProof";
import { Keyboard } from "./keys";
import type { LineFigures } from "./lineTest";
import type { Part } from "./rfb";
import * as say from "./rfbSay";
import type { FromScreen, ToScreen } from "./screenWorker";

export type DesktopState = "opening" | "connected" | "waiting" | "broken" | "ended";

export interface DesktopSeen {
  state: DesktopState;
  /** What there is to know just now. */
  word: string | undefined;
  screen: string | undefined;
  person: string | undefined;
  /** The host had no screen and was given this one. */
  isGiven: boolean;
  width: number;
  height: number;
  monitors: readonly Part[];
  cursor: { hotX: number; hotY: number; png: string | undefined } | undefined;
  /** Where the pointer is, as far as another moves it. */
  pointer: { x: number; y: number } | undefined;
  /** There is a text on the host's clipboard that is not here. */
  clipboardThere: boolean;
  /** The host's text, once it was fetched. */
  clipboard: string | undefined;
  /** What has become of the keyboards and mice of the host. */
  hold: DeskHold | undefined;
  /** What happens is recorded. */
  recorded: ChannelRecording | undefined;
  /** Who else is at desktops of the host. */
  others: readonly Guest[];
  /** Who acts; undefined as long as nobody else may. */
  hands: Hands | undefined;
  /** When the session ends because nobody does anything; undefined while that is far. */
  endsAt: number | undefined;
  /** What the last look at the line has found; null while one is under way. */
  tested: LineFigures | null | undefined;
  delay: number | undefined;
  frames: number;
  bytes: number;
}

export interface Guest {
  technician: string;
  control: boolean;
  /** He is the one who acts. */
  acts: boolean;
}

/** Of those who may act one does at a time. */
export interface Hands {
  mine: boolean;
  /** Who acts. */
  by?: string;
  /** Who wishes to. */
  askedBy?: string;
}

/** What one holds of the desks of the host. */
export interface DeskHold {
  isTaken: boolean;
  count: number;
  problem?: string;
  isHidden: boolean;
  locks: boolean;
}

/** What is to be different of that. */
export interface HoldAsk {
  takeInput?: boolean;
  hide?: boolean;
  lock?: boolean;
}

interface Word {
  notice?: string;
  refusal?: string;
  opened?: { screen: string; person?: string; isGiven?: boolean };
  gone?: string;
  /** Who has logged in at the screen that is shown; nobody is any more without a name. */
  person?: { name?: string };
  hold?: DeskHold;
  others?: Guest[];
  hands?: Hands;
  /** A secret was typed: its name. */
  typed?: string;
}

/** A session in which nobody does anything ends after so long; whoever is there is told before. */
export const IDLE = 30 * 60_000;
const TOLD_BEFORE = 5 * 60_000;

/** A line that breaks is tried again for so long. */
const AGAIN_WITHIN = 30_000;
const AGAIN_AFTER = 1_000;

export const unseen: DesktopSeen = {
  state: "opening",
  word: undefined,
  screen: undefined,
  person: undefined,
  isGiven: false,
  width: 0,
  height: 0,
  monitors: [],
  cursor: undefined,
  pointer: undefined,
  clipboardThere: false,
  clipboard: undefined,
  hold: undefined,
  recorded: undefined,
  others: [],
  hands: undefined,
  endsAt: undefined,
  tested: undefined,
  delay: undefined,
  frames: 0,
  bytes: 0,
};

/** One desktop as this window shows it: its line, whoever draws it, and what is known of it. */
export class DesktopLine {
  #seen = unseen;
  #socket: HostSocket | undefined;
  #left = false;
  #brokenAt: number | undefined;
  #timer: number | undefined;
  #pictures = new Map<number, (png: Blob) => void>();
  #pictureId = 0;
  #listeners = new Set<() => void>();
  #given: string | undefined;
  readonly #worker = new Worker(new URL("./screenWorker.ts", import.meta.url), { type: "module" });
  readonly keyboard = new Keyboard((down, sym, place) =>
    this.#say(place ? say.placeKey(down, sym, place) : say.key(down, sym)),
  );

  #inStep = false;
  #usedAt = performance.now();
  #idle: number | undefined;

  constructor(
    readonly host: HostSummary,
    readonly control: boolean,
    private readonly screen: string | undefined,
    private readonly proof: Proof,
    canvas: HTMLCanvasElement,
  ) {
    this.#worker.onmessage = (e: MessageEvent<FromScreen>) => this.#hear(e.data);
    const drawn = canvas.transferControlToOffscreen();
    this.#tell({ kind: "canvas", canvas: drawn }, [drawn]);
    this.#open();
    this.#idle = window.setInterval(() => this.#look(), 5_000);
  }

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  readonly seen = () => this.#seen;

  leave(): void {
    this.#left = true;
    window.clearTimeout(this.#timer);
    window.clearInterval(this.#idle);
    this.keyboard.letGo();
    this.#socket?.close();
    this.#worker.terminate();
  }

  mouse(x: number, y: number, buttons: number): void {
    if (this.control) this.#say(say.mouse(x, y, buttons));
  }

  resize(width: number, height: number): void {
    this.#say(say.resize(width, height));
  }

  /** Takes the keyboards and mice of the host away from the people there, or gives them back. */
  hold(ask: HoldAsk): void {
    this.#use();
    this.#socket?.send(JSON.stringify(ask));
  }

  /** Says something to whoever looks, until there is something else to say. */
  say(word: string): void {
    this.#set({ word });
  }

  /** Asks to be the one who acts, lets another, or goes on. */
  hands(wish: "ask" | "give" | "keep"): void {
    this.#use();
    this.#socket?.send(JSON.stringify({ hands: wish }));
  }

  /** Looks how fast the line is; it takes some seconds. */
  test(): void {
    this.#set({ tested: null });
    this.#tell({ kind: "test" });
  }

  /** Takes what was found about the line off the page. */
  forgetTest(): void {
    this.#set({ tested: undefined });
  }

  /** Goes on, though nothing is done. */
  stay(): void {
    this.#use();
    this.#socket?.send("{}");
  }

  /** Gives the host a text for its clipboard. */
  give(text: string): void {
    this.#given = text;
    this.#tell({ kind: "give", text });
  }

  /** Keeps the clipboards in step: what is copied at the host is at this side, too. */
  keepInStep(keeps: boolean): void {
    this.#inStep = keeps;
    if (keeps) this.get();
  }

  /** Asks for the text on the host's clipboard; it comes as {@link DesktopSeen.clipboard}. */
  get(): void {
    this.#say(say.clipboard(say.clipboardAct.request));
  }

  /** The picture as it is now, as PNG. */
  picture(): Promise<Blob> {
    const id = ++this.#pictureId;
    this.#tell({ kind: "picture", id });
    return new Promise((resolve) => this.#pictures.set(id, resolve));
  }

  #open(): void {
    this.#set({ others: [], hands: undefined });
    const wanted = this.screen ? { control: this.control, screen: this.screen } : { control: this.control };
    const socket = new HostSocket(
      this.host.id,
      { kind: "desktop", name: "desktop", wanted, act: this.control ? "control" : "watch" },
      this.proof,
      {
        open: (ticket) => this.#set({ recorded: ticket.recording ?? undefined }),
        message: (data) => this.#take(data),
        over: (why) => this.#over(socket, why),
      },
    );
    this.#socket = socket;
  }

  #take(data: string | ArrayBuffer): void {
    if (typeof data !== "string") {
      this.#tell({ kind: "bytes", bytes: data }, [data]);
      return;
    }
    const word = JSON.parse(data) as Word;
    if (word.others) this.#set({ others: word.others });
    if (word.typed) this.say(`The secret “${word.typed}” was typed.`);
    if (word.hands) this.#set({ hands: word.hands });
    if (word.hold) this.#set({ hold: word.hold });
    if (word.notice) this.#set({ word: word.notice });
    if (word.refusal) this.#end(word.refusal);
    if (word.gone) this.#set({ state: "waiting", word: `${word.gone} The next screen that comes is shown.` });
    if (word.person) {
      const { name } = word.person;
      this.#set({
        person: name,
        word: name ? `${name} has logged in there.` : "Nobody is logged in there any more.",
      });
    }
    if (word.opened) {
      this.#brokenAt = undefined;
      this.#tell({ kind: "begin" });
      this.#set({
        state: "connected",
        word: undefined,
        hold: undefined,
        screen: word.opened.screen,
        person: word.opened.person,
        isGiven: word.opened.isGiven === true,
      });
    }
  }

  /** What broke is opened again; what was ended stays so. */
  #over(socket: HostSocket, why: string | undefined): void {
    if (socket !== this.#socket || this.#left || this.#seen.state === "ended") return;
    this.#socket = undefined;
    const began = (this.#brokenAt ??= performance.now());
    const wasThere =
      this.#seen.state === "connected" || this.#seen.state === "broken" || this.#seen.state === "waiting";
    if (!wasThere || why === "The session has ended." || performance.now() - began > AGAIN_WITHIN) {
      this.#end(
        why === "The session has ended." && performance.now() - this.#usedAt > IDLE - 60_000
          ? "The session has ended: nobody has done anything for 30 minutes."
          : (why ?? "The line to the host is broken."),
      );
      return;
    }
    this.#set({ state: "broken", word: `The line is broken${why ? ` (${why})` : ""}. It is opened again by itself.` });
    this.#timer = window.setTimeout(() => this.#open(), AGAIN_AFTER);
  }

  #end(word: string): void {
    this.#set({ state: "ended", word });
    this.#socket?.close();
  }

  #hear(message: FromScreen): void {
    switch (message.kind) {
      case "say":
        this.#socket?.send(message.bytes);
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
      case "monitors":
        this.#set({ monitors: message.monitors });
        break;
      case "resized":
        this.#set({ word: message.status === 0 ? undefined : resizeWords[message.status] });
        break;
      case "clipboard-there":
        this.#set({ clipboardThere: true });
        if (this.#inStep) this.get();
        break;
      case "clipboard":
        this.#set({ clipboardThere: false, clipboard: message.text ?? "" });
        if (this.#inStep && message.text && message.text !== this.#given)
          void navigator.clipboard.writeText(message.text).catch(() => undefined);
        break;
      case "pace":
        this.#set({ delay: message.delay, frames: message.frames, bytes: message.bytes });
        break;
      case "tested":
        this.#set({ tested: message.figures });
        break;
      case "picture":
        this.#pictures.get(message.id)?.(message.png);
        this.#pictures.delete(message.id);
        break;
      case "problem":
        this.#end(`What the host sends is no picture: ${message.problem}.`);
        break;
    }
  }

  #use(): void {
    this.#usedAt = performance.now();
    if (this.#seen.endsAt !== undefined) this.#set({ endsAt: undefined });
  }

  /** Tells in time that the session ends by itself. */
  #look(): void {
    const left = IDLE - (performance.now() - this.#usedAt);
    if (this.#seen.state === "connected" && left < TOLD_BEFORE && this.#seen.endsAt === undefined)
      this.#set({ endsAt: Date.now() + left });
  }

  #say(bytes: Uint8Array<ArrayBuffer>): void {
    this.#use();
    this.#socket?.send(bytes.buffer);
  }

  #tell(message: ToScreen, transfer: Transferable[] = []): void {
    this.#worker.postMessage(message, transfer);
  }

  #set(news: Partial<DesktopSeen>): void {
    this.#seen = { ...this.#seen, ...news };
    for (const listener of this.#listeners) listener();
  }
}

const resizeWords: Record<number, string> = {
  1: "Whoever only watches does not change the size of the screen.",
  2: "The screen can't have another size: it has several monitors, or its system refuses.",
  3: "The monitor of this screen has no such size.",
};
