import type { FitAddon } from "@xterm/addon-fit";
import type { SearchAddon } from "@xterm/addon-search";
import type { Terminal } from "@xterm/xterm";
import type { ChannelRecording, HostSummary } from "../api/types";
import type { HostShellDoor } from "./hostShell";
import { ShellLine, type ShellState } from "./shellLine";
import { openTerminal } from "./terminal";

const SCROLL_BACK = 10_000;

let count = 0;

/** A shell that this window shows, with its terminal; it lives on while its page is left. */
export class OpenShell {
  readonly key = `s${String(++count)}`;
  readonly element = document.createElement("div");
  state: ShellState = "connecting";
  word: string | undefined;
  user: string | undefined;
  /** What happens in it is recorded. */
  recording: ChannelRecording | undefined;
  terminal: Terminal | undefined;
  search: SearchAddon | undefined;
  /** Whether what is typed into one of those that are joined goes to this one too. */
  joined = false;
  #fit: FitAddon | undefined;
  #line: ShellLine | undefined;

  constructor(
    readonly host: HostSummary,
    private readonly door: HostShellDoor,
    private readonly changed: () => void,
    private readonly typed: (from: OpenShell, keys: string | Uint8Array<ArrayBuffer>) => void,
    private readonly leaveTerminal: () => void,
    private readonly resumes?: string,
  ) {
    this.element.className = "terminal-box";
    void this.#begin();
  }

  get shellId(): string | undefined {
    return this.#line?.shellId ?? this.resumes;
  }

  get isOver(): boolean {
    return this.state === "ended" || this.state === "left";
  }

  type(keys: string | Uint8Array<ArrayBuffer>): void {
    this.#line?.type(keys);
  }

  end(): void {
    this.#line?.end();
  }

  leave(): void {
    this.#line?.leave();
  }

  retry(): void {
    this.#line?.retry();
  }

  /** Fills its box; the host is told the new size. */
  fit(): void {
    if (this.element.clientWidth > 40 && this.element.clientHeight > 20) this.#fit?.fit();
  }

  focus(): void {
    this.terminal?.focus();
  }

  dispose(): void {
    this.terminal?.dispose();
    this.element.remove();
    // One that was left goes on, and it goes with its session if that ends.
    if (this.state === "ended") void this.door.close();
  }

  async #begin(): Promise<void> {
    const [{ FitAddon }, { SearchAddon }] = await Promise.all([
      import("@xterm/addon-fit"),
      import("@xterm/addon-search"),
    ]);
    this.#fit = new FitAddon();
    this.search = new SearchAddon();
    const [fit, search] = [this.#fit, this.search];
    const terminal = await openTerminal(
      this.element,
      `Terminal of ${this.host.label}`,
      { scrollback: SCROLL_BACK },
      (made) => {
        made.loadAddon(fit);
        made.loadAddon(search);
      },
    );
    this.terminal = terminal;
    terminal.attachCustomKeyEventHandler((e) => this.#ownKey(e));
    this.fit();
    const line = new ShellLine(
      this.door,
      {
        output: (data, done) => terminal.write(data, done),
        state: (state, word) => {
          this.state = state;
          this.word = word;
          if (state === "ended") terminal.options.disableStdin = true;
          this.changed();
        },
        notice: (sentence) => {
          this.word = sentence;
          this.changed();
        },
        opened: (_, user) => {
          this.user = user;
          this.recording = this.door.recording;
          this.word = undefined;
          this.changed();
        },
      },
      { columns: terminal.cols, rows: terminal.rows },
      this.resumes,
    );
    this.#line = line;
    terminal.onData((keys) => this.typed(this, keys));
    // Mouse reports of old programs are bytes, not text.
    terminal.onBinary((keys) =>
      this.typed(
        this,
        Uint8Array.from(keys, (c) => c.charCodeAt(0)),
      ),
    );
    terminal.onResize(({ cols, rows }) => line.resize({ columns: cols, rows }));
    line.start();
    this.changed();
  }

  /** Keys that are the console's: Ctrl Shift C copies, Ctrl Shift ↑ leaves the terminal. */
  #ownKey(e: KeyboardEvent): boolean {
    if (e.type !== "keydown" || !e.ctrlKey || !e.shiftKey) return true;
    if (e.code === "KeyC" && this.terminal?.hasSelection()) {
      void navigator.clipboard.writeText(this.terminal.getSelection());
      e.preventDefault();
      return false;
    }
    // Left to the browser, which pastes.
    if (e.code === "KeyV") return false;
    if (e.code === "ArrowUp") {
      this.leaveTerminal();
      e.preventDefault();
      return false;
    }
    return true;
  }
}
