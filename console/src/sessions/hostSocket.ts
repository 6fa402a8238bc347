import { api, ask } from "../api/client";
import type { ChannelTicket, SessionInfo } from "../api/types";
import { endSession } from "./hostDoor";
import type { Proof } from "./useProof";

/** What a channel is for: its kind, and under a name of its own what is wanted of it. */
export interface SocketWish {
  kind: "processes" | "services" | "logs" | "files" | "desktop";
  name: "view" | "log" | "files" | "desktop";
  wanted: object;
  act: "run" | "read-files" | "write-files" | "watch" | "control";
}

export interface SocketEvents {
  open?(ticket: ChannelTicket): void;
  message(data: string | ArrayBuffer): void;
  /** It is over, unless it was closed here; with the reason where one was given. */
  over(why: string | undefined): void;
}

/** A channel of a host, in a session of its own unless its key was proven in one. */
export class HostSocket {
  #socket: WebSocket | undefined;
  #own: string | undefined;
  #opening = true;
  #left = false;

  constructor(
    private readonly hostId: string,
    private readonly wish: SocketWish,
    private readonly proof: Proof,
    private readonly events: SocketEvents,
  ) {
    void this.#open()
      .catch((e: unknown) => (e instanceof Error ? e.message : String(e)))
      .then((problem) => {
        this.#opening = false;
        if (this.#left || problem) this.#end(problem ?? undefined);
      });
  }

  send(data: string | ArrayBuffer): void {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(data);
  }

  /** Bytes that were given to it and have not gone yet. */
  get waiting(): number {
    return this.#socket?.bufferedAmount ?? 0;
  }

  close(): void {
    this.#left = true;
    // What is still being opened ends as soon as it is open: in the middle it would be an error on both sides.
    if (!this.#opening) this.#end(undefined);
  }

  async #open(): Promise<void> {
    const { door, usesVault } = this.proof;
    const { kind, name, wanted, act } = this.wish;
    let session = door?.session.id;
    if (!session) {
      const opened = (await ask(
        api.POST("/api/v1/hosts/{id}/sessions", {
          params: { path: { id: this.hostId } },
          body: { reason: kind },
        }),
      )) as SessionInfo;
      session = this.#own = opened.id;
    }
    if (this.#left) return;
    const ticket = (await ask(
      api.POST("/api/v1/sessions/{id}/channels", {
        params: { path: { id: session } },
        body: {
          kind,
          [name]: wanted,
          seal: door ? await door.seal(wanted, act) : null,
          usesVault: usesVault && !door,
        } as never,
      }),
    )) as ChannelTicket;
    if (this.#left) return;
    const socket = new WebSocket(new URL(ticket.path, window.location.origin.replace(/^http/, "ws")));
    socket.binaryType = "arraybuffer";
    await new Promise<void>((resolve, reject) => {
      socket.onopen = () => resolve();
      socket.onerror = () => reject(new Error("The service does not open a channel to the host."));
    });
    this.#socket = socket;
    socket.onmessage = (e) => {
      // What was on its way when it was closed belongs to nothing that is shown now.
      if (!this.#left) this.events.message(e.data as string | ArrayBuffer);
    };
    socket.onclose = (e) => this.#end(e.reason || undefined);
    socket.send(JSON.stringify({ ticket: ticket.ticket }));
    if (!this.#left) this.events.open?.(ticket);
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
