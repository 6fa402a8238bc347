/** The host's side of a key channel, for tests: what the agent does, written from the standard. */
import { concat, fromBase64, hmac, pbkdf2, sha256, toBase64 } from "./access/scram";
import type { ChannelEnd } from "./test-service";

const utf8 = new TextEncoder();
const curve = { name: "ECDH", namedCurve: "P-256" };
type Bytes = Uint8Array<ArrayBuffer>;

export interface Box {
  ephemeralKey: string;
  nonce: string;
  cipher: string;
}

export class KeyHost {
  /** What its messages were, in the order in which they came. */
  readonly heard: string[] = [];
  sessionKey: Bytes | undefined;

  private constructor(
    private readonly secret: string,
    private readonly keys: CryptoKeyPair,
    /** Its public key, as the service names it. */
    readonly publicKey: string,
  ) {}

  static async make(secret: string): Promise<KeyHost> {
    const keys = await crypto.subtle.generateKey(curve, true, ["deriveBits"]);
    return new KeyHost(secret, keys, toBase64(new Uint8Array(await crypto.subtle.exportKey("spki", keys.publicKey))));
  }

  /** Answers one exchange (RFC 5802). @param knows with another verifier it says that all is well without knowing. */
  async answer(end: ChannelEnd, next: () => Promise<string>, binding: Bytes, knows = true): Promise<void> {
    const first = await next();
    const header = "p=umbrek-channel,,";
    const bare = first.slice(header.length);
    const nonce = /r=([^,]+)/.exec(bare)?.[1] ?? "";
    const salt = crypto.getRandomValues(new Uint8Array(16));
    const serverFirst = `r=${nonce}host,s=${toBase64(salt)},i=60000`;
    end.word({ scram: serverFirst });
    const final = await next();
    this.heard.push(first, final);
    const [without, proof] = final.split(",p=") as [string, string];
    const salted = await pbkdf2(utf8.encode(this.secret), salt, 60_000);
    const clientKey = await hmac(salted, utf8.encode("Client Key"));
    const message = utf8.encode(`${bare},${serverFirst},${without}`);
    const expected = (await hmac(await sha256(clientKey), message)).map((b, i) => b ^ (clientKey[i] ?? 0));
    const bound = `c=${toBase64(concat(utf8.encode(header), binding))},r=${nonce}host`;
    if (proof !== toBase64(expected) || without !== bound) {
      end.word({ scram: "e=invalid-proof" });
      return;
    }
    this.sessionKey = await hmac(clientKey, concat(utf8.encode("umbrek session key\0"), message));
    const serverKey = await hmac(knows ? salted : new Uint8Array(32), utf8.encode("Server Key"));
    end.word({ scram: `v=${toBase64(await hmac(serverKey, message))}` });
  }

  /** Opens what was encrypted to it (RFC 5869, HKDF over the shared secret and what the proof has left). */
  async open(box: Box, binding: Bytes): Promise<unknown> {
    const theirs = await crypto.subtle.importKey("spki", fromBase64(box.ephemeralKey), curve, false, []);
    const shared = new Uint8Array(
      await crypto.subtle.deriveBits({ name: "ECDH", public: theirs }, this.keys.privateKey, 256),
    );
    const material = await crypto.subtle.importKey(
      "raw",
      concat(shared, this.sessionKey ?? new Uint8Array()),
      "HKDF",
      false,
      ["deriveKey"],
    );
    const info = utf8.encode(this.sessionKey ? "umbrek key box 1, proven" : "umbrek key box 1");
    const key = await crypto.subtle.deriveKey(
      { name: "HKDF", hash: "SHA-256", salt: binding, info },
      material,
      { name: "AES-GCM", length: 256 },
      false,
      ["decrypt"],
    );
    const plain = await crypto.subtle.decrypt(
      { name: "AES-GCM", iv: fromBase64(box.nonce) },
      key,
      fromBase64(box.cipher),
    );
    return JSON.parse(new TextDecoder().decode(plain));
  }
}
