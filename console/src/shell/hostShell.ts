import { api, ask } from "../api/client";
import type { ChannelRecording, ChannelTicket, HostSummary, SessionInfo } from "../api/types";
import { endSession, type HostDoor } from "../sessions/hostDoor";
import type { ShellDoor, ShellSocket } from "./shellLine";
import type { ShellWish, TerminalSize } from "./words";

const KEEP_SECONDS = 600;
const IDLE_SECONDS = 3600;

/** The way to a host's shell: a session of one's own, or the one in which the host's key was proven. */
export class HostShellDoor implements ShellDoor {
  #session: string | undefined;
  readonly #beginAs = crypto.randomUUID();

  /** Of the channel that was opened last. */
  recording: ChannelRecording | undefined;

  constructor(
    private readonly host: Pick<HostSummary, "id" | "label">,
    private readonly options: { user?: string; proven?: HostDoor; usesVault: boolean },
  ) {
    this.#session = options.proven?.session.id;
  }

  async channel({ shellId, seen, size }: { shellId: string | undefined; seen: number; size: TerminalSize }) {
    this.#session ??= (
      (await ask(
        api.POST("/api/v1/hosts/{id}/sessions", { params: { path: { id: this.host.id } }, body: { reason: "shell" } }),
      )) as SessionInfo
    ).id;
    const wish: ShellWish = {
      ...(shellId ? { shellId } : { beginAs: this.#beginAs }),
      seen,
      terminal: size,
      terminalType: "xterm-256color",
      ...(this.options.user ? { user: this.options.user } : {}),
      keepSeconds: KEEP_SECONDS,
      idleSeconds: IDLE_SECONDS,
    };
    const proven = this.options.proven?.session.id === this.#session ? this.options.proven : undefined;
    const ticket = (await ask(
      api.POST("/api/v1/sessions/{id}/channels", {
        params: { path: { id: this.#session } },
        body: {
          kind: "shell",
          shell: wish,
          seal: proven ? await proven.seal(wish, "shell") : null,
          usesVault: !proven && this.options.usesVault,
        },
      }),
    )) as ChannelTicket;
    this.recording = ticket.recording ?? undefined;
    return connect(ticket);
  }

  async renew(): Promise<string | undefined> {
    const id = this.#session;
    if (!id) return undefined;
    const was = (await ask(api.GET("/api/v1/sessions/{id}", { params: { path: { id } } }))) as SessionInfo;
    // Where its end is not written yet, it is asked for again with the next attempt.
    if (!was.endedAt) return undefined;
    this.#session = undefined;
    const why = was.endReason ?? "";
    return byNobody(why) ? undefined : `The session has ended: ${why}.`;
  }

  /** The session is not needed any more. */
  async close(): Promise<void> {
    if (this.#session) await endSession(this.#session).catch(() => undefined);
    this.#session = undefined;
  }
}

/** What nobody has ended: the service went, or nobody used it; another session leads to the same shell. */
const byNobody = (why: string) => why === "the service restarted" || why.startsWith("nothing happened for");

async function connect(ticket: ChannelTicket): Promise<ShellSocket> {
  const socket = new WebSocket(new URL(ticket.path, window.location.origin.replace(/^http/, "ws")));
  socket.binaryType = "arraybuffer";
  await new Promise<void>((resolve, reject) => {
    socket.onopen = () => resolve();
    socket.onerror = () => reject(new Error("The service does not open a channel to the host."));
  });
  const line: ShellSocket = {
    send: (data) => {
      if (socket.readyState === WebSocket.OPEN) socket.send(data);
    },
    close: () => socket.close(),
    onmessage: undefined,
    onclose: undefined,
  };
  socket.onmessage = (e) => line.onmessage?.(e.data as string | ArrayBuffer);
  socket.onclose = (e) => line.onclose?.(e.reason);
  socket.send(JSON.stringify({ ticket: ticket.ticket }));
  return line;
}
