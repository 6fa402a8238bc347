import { api, ask } from "../api/client";
import type { ChannelTicket, HostService, ProcessChanges, SessionInfo } from "../api/types";
import { endSession } from "../sessions/hostDoor";
import type { Proof } from "../sessions/useProof";

/** What a host says on any channel on which it alone speaks. */
export interface HostWord {
  notice?: string;
  problem?: string;
}

/** What a host says on a channel that shows what runs there. */
export interface ViewWord extends HostWord {
  changes?: ProcessChanges;
  services?: HostService[];
}

/** What is to be seen. */
export type LookWish =
  { kind: "processes" | "services"; view: { everySeconds: number } } | { kind: "logs"; log: object };

export interface LookEvents<W> {
  word(word: W): void;
  notice(sentence: string): void;
  /** It is over; said why, unless the technician left. */
  over(why: string | undefined): void;
}

/** A look at what goes on at a host, for as long as it is open. */
export class HostLook<W extends HostWord> {
  #socket: WebSocket | undefined;
  #own: string | undefined;
  #opening = true;
  #left = false;

  constructor(
    private readonly hostId: string,
    private readonly wish: LookWish,
    private readonly proof: Proof,
    private readonly events: LookEvents<W>,
  ) {
    void this.#open()
      .catch((e: unknown) => (e instanceof Error ? e.message : String(e)))
      .then((problem) => {
        this.#opening = false;
        if (this.#left || problem) this.#end(problem ?? undefined);
      });
  }

  close(): void {
    this.#left = true;
    // What is still being opened ends as soon as it is open: in the middle it would be an error on both sides.
    if (!this.#opening) this.#end(undefined);
  }

  async #open(): Promise<void> {
    const { door, usesVault } = this.proof;
    let session = door?.session.id;
    if (!session) {
      const opened = (await ask(
        api.POST("/api/v1/hosts/{id}/sessions", {
          params: { path: { id: this.hostId } },
          body: { reason: this.wish.kind },
        }),
      )) as SessionInfo;
      session = this.#own = opened.id;
    }
    if (this.#left) return;
    const isLog = this.wish.kind === "logs";
    const wanted = this.wish.kind === "logs" ? this.wish.log : this.wish.view;
    const ticket = (await ask(
      api.POST("/api/v1/sessions/{id}/channels", {
        params: { path: { id: session } },
        body: {
          ...this.wish,
          seal: door ? await door.seal(wanted, isLog ? "read-files" : "run") : null,
          usesVault: usesVault && !door,
        } as never,
      }),
    )) as ChannelTicket;
    if (this.#left) return;
    const socket = new WebSocket(new URL(ticket.path, window.location.origin.replace(/^http/, "ws")));
    await new Promise<void>((resolve, reject) => {
      socket.onopen = () => resolve();
      socket.onerror = () => reject(new Error("The service does not open a channel to the host."));
    });
    this.#socket = socket;
    let why = "The line to the host broke. Look again.";
    socket.onmessage = (e) => {
      // What was on its way when it was closed belongs to nothing that is shown now.
      if (this.#left) return;
      const word = JSON.parse(String(e.data)) as W;
      if (word.problem) why = word.problem;
      if (word.notice) this.events.notice(word.notice);
      this.events.word(word);
    };
    socket.onclose = (e) => this.#end(e.reason || why);
    socket.send(JSON.stringify({ ticket: ticket.ticket }));
  }

  #end(why: string | undefined): void {
    this.#socket?.close();
    const own = this.#own;
    this.#own = undefined;
    if (own) void endSession(own).catch(() => undefined);
    if (!this.#left) this.events.over(why);
    this.#left = true;
  }
}
