import { concat, fromBase64, hmac, newNonce, pbkdf2, ProofProblem, Prover, sha256, toBase64 } from "../access/scram";
import type { ChannelTicket, SessionInfo } from "../api/types";

const utf8 = new TextEncoder();

export type SecretName = "access-key" | "passcode";

/** What one message of a key channel holds; each has one of these. */
interface KeyFrame {
  scram?: string;
  problem?: string;
  newKey?: { ephemeralKey: string; nonce: string; cipher: string };
  done?: boolean;
  asksProof?: boolean;
}

const uuidBytes = (id: string) =>
  Uint8Array.from(id.replaceAll("-", "").match(/../g) ?? [], (pair) => Number.parseInt(pair, 16));

/** A key that the service names with an open session. */
function keyOf(base64: string | null | undefined) {
  if (!base64) throw new ProofProblem("The service does not say whose keys the proof is for. Open the session anew.");
  return fromBase64(base64);
}

/** What a proof is bound to: which service, which host by its key, which session, which channel. */
export async function channelBinding(session: SessionInfo, channelId: string) {
  return sha256(
    concat(
      utf8.encode("umbrek channel binding 1\0"),
      keyOf(session.serviceKey),
      uuidBytes(session.hostId),
      await sha256(keyOf(session.hostKey)),
      uuidBytes(session.id),
      uuidBytes(channelId),
    ),
  );
}

/** The technician's end of a channel on which a host's key is proven, and another is set. */
export class KeyChannel {
  readonly #socket: WebSocket;
  readonly #come: KeyFrame[] = [];
  #wake: (() => void) | undefined;
  #over: string | undefined;

  private constructor(
    socket: WebSocket,
    private readonly session: SessionInfo,
    private readonly binding: Uint8Array<ArrayBuffer>,
  ) {
    this.#socket = socket;
    socket.onmessage = (e) => {
      this.#come.push(JSON.parse(String(e.data)) as KeyFrame);
      this.#wake?.();
    };
    socket.onclose = (e) => {
      this.#over = e.reason || "The channel to the host broke. Try again.";
      this.#wake?.();
    };
  }

  static async open(session: SessionInfo, ticket: ChannelTicket): Promise<KeyChannel> {
    const socket = new WebSocket(new URL(ticket.path, window.location.origin.replace(/^http/, "ws")));
    await new Promise<void>((resolve, reject) => {
      socket.onopen = () => resolve();
      socket.onerror = () => reject(new ProofProblem("The service does not open a channel to the host. Try again."));
    });
    const channel = new KeyChannel(socket, session, await channelBinding(session, ticket.channelId));
    socket.send(JSON.stringify({ ticket: ticket.ticket }));
    return channel;
  }

  close(): void {
    this.#socket.close();
  }

  /** Proves a secret of the host. @returns what both sides know now, and nobody in between. */
  async prove(name: SecretName, secret: string) {
    const prover = new Prover(name, secret, newNonce(), this.binding);
    this.#send({ scram: prover.first });
    this.#send({ scram: await prover.prove((await this.#receive()).scram ?? "") });
    return prover.check((await this.#receive()).scram ?? "");
  }

  /** On a channel for a new key, before anything else: whether there is one, which is to be proven first. */
  async asksProof(): Promise<boolean> {
    return (await this.#receive()).asksProof === true;
  }

  /** Sets another access key, readable by the host alone. @param sessionKey what proving the key there is has left. */
  async setKey(fresh: string, endSessions: boolean, sessionKey: Uint8Array<ArrayBuffer> | undefined): Promise<void> {
    const wish = JSON.stringify({ ...(await verifierOf(fresh, this.session)), endSessions });
    this.#send({
      newKey: await seal(utf8.encode(wish), keyOf(this.session.hostKey), this.binding, sessionKey),
    });
    if (!(await this.#receive()).done)
      throw new ProofProblem("The host did not say that it has the new key. Look whether the old one is still good.");
  }

  #send(frame: KeyFrame): void {
    this.#socket.send(JSON.stringify(frame));
  }

  async #receive(): Promise<KeyFrame> {
    for (;;) {
      const frame = this.#come.shift();
      if (frame?.problem) throw new ProofProblem(frame.problem);
      if (frame) return frame;
      if (this.#over !== undefined) throw new ProofProblem(this.#over);
      await new Promise<void>((resolve) => (this.#wake = resolve));
    }
  }
}

const iterations = 60_000;
const markIterations = 200_000;

/** What the host keeps of a key (RFC 5802, section 3), and the mark that hosts with the same key share. */
async function verifierOf(key: string, session: SessionInfo) {
  const salt = crypto.getRandomValues(new Uint8Array(16));
  const salted = await pbkdf2(utf8.encode(key), salt, iterations);
  const mark = await pbkdf2(
    utf8.encode(key),
    concat(utf8.encode("umbrek key mark\0"), keyOf(session.serviceKey)),
    markIterations,
    4,
  );
  return {
    verifier: {
      salt: toBase64(salt),
      iterations,
      storedKey: toBase64(await sha256(await hmac(salted, utf8.encode("Client Key")))),
      serverKey: toBase64(await hmac(salted, utf8.encode("Server Key"))),
    },
    mark: [...mark].map((b) => b.toString(16).padStart(2, "0")).join(""),
  };
}

/** Encrypted to the host's key: ECDH on P-256, HKDF (RFC 5869), AES-256-GCM. */
async function seal(
  plain: Uint8Array<ArrayBuffer>,
  hostKey: Uint8Array<ArrayBuffer>,
  binding: Uint8Array<ArrayBuffer>,
  sessionKey: Uint8Array<ArrayBuffer> | undefined,
) {
  const curve = { name: "ECDH", namedCurve: "P-256" };
  const host = await crypto.subtle.importKey("spki", hostKey, curve, false, []);
  const own = await crypto.subtle.generateKey(curve, false, ["deriveBits"]);
  const shared = new Uint8Array(await crypto.subtle.deriveBits({ name: "ECDH", public: host }, own.privateKey, 256));
  const material = await crypto.subtle.importKey("raw", concat(shared, sessionKey ?? new Uint8Array()), "HKDF", false, [
    "deriveKey",
  ]);
  const info = utf8.encode(sessionKey ? "umbrek key box 1, proven" : "umbrek key box 1");
  const key = await crypto.subtle.deriveKey(
    { name: "HKDF", hash: "SHA-256", salt: binding, info },
    material,
    { name: "AES-GCM", length: 256 },
    false,
    ["encrypt"],
  );
  const nonce = crypto.getRandomValues(new Uint8Array(12));
  const cipher = await crypto.subtle.encrypt({ name: "AES-GCM", iv: nonce }, key, plain);
  return {
    ephemeralKey: toBase64(new Uint8Array(await crypto.subtle.exportKey("spki", own.publicKey))),
    nonce: toBase64(nonce),
    cipher: toBase64(new Uint8Array(cipher)),
  };
}
