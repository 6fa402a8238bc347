import { hmac, toBase64 } from "../access/scram";
import { api, ask } from "../api/client";
import type { ChannelTicket, SealedOrder, SessionInfo } from "../api/types";
import { KeyChannel, type SecretName } from "./keyChannel";

const utf8 = new TextEncoder();

/** What an order is sealed for. */
export type SealedAct = "run" | "shell" | "power" | "read-files" | "write-files" | "watch" | "control";

async function openSession(hostId: string, reason: string | null): Promise<SessionInfo> {
  return (await ask(
    api.POST("/api/v1/hosts/{id}/sessions", { params: { path: { id: hostId } }, body: { reason } }),
  )) as SessionInfo;
}

async function openChannel(session: SessionInfo, kind: string): Promise<KeyChannel> {
  const ticket = (await ask(
    api.POST("/api/v1/sessions/{id}/channels", {
      params: { path: { id: session.id } },
      body: { kind, usesVault: false },
    }),
  )) as ChannelTicket;
  return KeyChannel.open(session, ticket);
}

export const endSession = (id: string) =>
  ask(api.POST("/api/v1/sessions/{id}/end", { params: { path: { id } } })) as Promise<SessionInfo>;

/** A session on one host in which its key was proven: what is sealed here the host believes, and nothing that anybody else makes. */
export class HostDoor {
  #last = 0;

  private constructor(
    readonly session: SessionInfo,
    private readonly sessionKey: Uint8Array<ArrayBuffer>,
  ) {}

  static async open(hostId: string, name: SecretName, secret: string): Promise<HostDoor> {
    const session = await openSession(hostId, null);
    try {
      const channel = await openChannel(session, "key");
      try {
        return new HostDoor(session, await channel.prove(name, secret));
      } finally {
        channel.close();
      }
    } catch (e) {
      await endSession(session.id).catch(() => undefined);
      throw e;
    }
  }

  /** Seals an order for the host. */
  async seal(order: object, act: SealedAct = "run"): Promise<SealedOrder> {
    const [text, number] = [JSON.stringify(order), ++this.#last];
    const { id } = this.session;
    const mac = await hmac(this.sessionKey, utf8.encode(`umbrek order 1\n${id}\n${number}\n${act}\n${text}`));
    return { sessionId: id, number, act, text, mac: toBase64(mac) };
  }
}

/** Sets another access key, or the first one. @param old the key there is, if there is one. */
export async function changeKey(hostId: string, old: string, fresh: string, endSessions: boolean): Promise<void> {
  const session = await openSession(hostId, "access key");
  try {
    const channel = await openChannel(session, "new-key");
    try {
      const proven = (await channel.asksProof()) ? await channel.prove("access-key", old) : undefined;
      await channel.setKey(fresh, endSessions, proven);
    } finally {
      channel.close();
    }
  } finally {
    await endSession(session.id).catch(() => undefined);
  }
}
