/**
 * The side of SCRAM-SHA-256 (RFC 5802, RFC 7677) that knows a host's key: it proves the key to the host without sending it, and makes the
 * host prove that it knows the same.
 */

const bindingName = "umbrek-channel";
const fewestIterations = 60_000;
const mostIterations = 2_000_000;

const utf8 = new TextEncoder();
type Bytes = Uint8Array<ArrayBuffer>;

export class ProofProblem extends Error {}

export const toBase64 = (bytes: Uint8Array): string => btoa(String.fromCharCode(...bytes));

export function fromBase64(text: string): Bytes {
  try {
    return Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
  } catch {
    throw new ProofProblem("The host's message is not one of SCRAM.");
  }
}

export function concat(...parts: Uint8Array[]): Bytes {
  const all = new Uint8Array(parts.reduce((n, p) => n + p.length, 0));
  let at = 0;
  for (const part of parts) {
    all.set(part, at);
    at += part.length;
  }
  return all;
}

export async function hmac(key: Bytes, data: Bytes): Promise<Bytes> {
  const imported = await crypto.subtle.importKey("raw", key, { name: "HMAC", hash: "SHA-256" }, false, ["sign"]);
  return new Uint8Array(await crypto.subtle.sign("HMAC", imported, data));
}

export const sha256 = async (data: Bytes): Promise<Bytes> =>
  new Uint8Array(await crypto.subtle.digest("SHA-256", data));

/** PBKDF2 with HMAC-SHA-256, 32 bytes unless said otherwise. */
export async function pbkdf2(secret: Bytes, salt: Bytes, iterations: number, bytes = 32): Promise<Bytes> {
  const key = await crypto.subtle.importKey("raw", secret, "PBKDF2", false, ["deriveBits"]);
  return new Uint8Array(
    await crypto.subtle.deriveBits({ name: "PBKDF2", hash: "SHA-256", salt, iterations }, key, bytes * 8),
  );
}

/** 24 letters and digits, by chance. */
export function newNonce(): string {
  const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789";
  // 248 is the largest multiple of 62 in a byte: what is above would favour some letters.
  const found: string[] = [];
  while (found.length < 24) {
    for (const b of crypto.getRandomValues(new Uint8Array(32))) if (b < 248) found.push(letters.charAt(b % 62));
  }
  return found.slice(0, 24).join("");
}

/** Values of exactly these letters in this order. */
function read(message: string, letters: string): string[] {
  const parts = message.split(",");
  return [...letters].map((letter, i) => {
    const part = parts[i];
    if (message.length > 4096 || !part?.startsWith(`${letter}=`))
      throw new ProofProblem("The host's message is not one of SCRAM, or came out of order.");
    return part.slice(2);
  });
}

export class Prover {
  readonly #bare: string;
  readonly #header: string;
  readonly #key: string;
  readonly #nonce: string;
  readonly #binding: Bytes | undefined;
  #signature: Bytes | undefined;
  #sessionKey: Bytes | undefined;

  /** @param binding what the channel is bound to; without one the proof is bound to nothing, as in the standard's example. */
  constructor(name: string, key: string, nonce: string, binding?: Bytes) {
    this.#bare = `n=${name.replaceAll("=", "=3D").replaceAll(",", "=2C")},r=${nonce}`;
    this.#header = binding ? `p=${bindingName},,` : "n,,";
    this.#key = key;
    this.#nonce = nonce;
    this.#binding = binding;
  }

  get first(): string {
    return this.#header + this.#bare;
  }

  /** The proof, for this one exchange. */
  async prove(serverFirst: string): Promise<string> {
    const [nonce, salt, count] = read(serverFirst, "rsi") as [string, string, string];
    if (!nonce.startsWith(this.#nonce) || nonce.length === this.#nonce.length)
      throw new ProofProblem(
        "Whoever answers for the host repeats an earlier exchange. Nothing was proven; tell whoever runs the service if it stays so.",
      );
    const iterations = /^\d{1,10}$/.test(count) ? Number(count) : 0;
    const fewest = this.#binding ? fewestIterations : 4096;
    if (iterations < fewest || iterations > mostIterations)
      throw new ProofProblem(
        `Whoever answers for the host asks for ${count} iterations; ${fewest} to ${mostIterations} are taken. Nothing was proven.`,
      );
    const salted = await pbkdf2(utf8.encode(this.#key), fromBase64(salt), iterations);
    const clientKey = await hmac(salted, utf8.encode("Client Key"));
    const serverKey = await hmac(salted, utf8.encode("Server Key"));
    const bound = toBase64(concat(utf8.encode(this.#header), this.#binding ?? new Uint8Array()));
    const final = `c=${bound},r=${nonce}`;
    const message = utf8.encode(`${this.#bare},${serverFirst},${final}`);
    const proof = (await hmac(await sha256(clientKey), message)).map((b, i) => b ^ (clientKey[i] ?? 0));
    this.#signature = await hmac(serverKey, message);
    this.#sessionKey = await hmac(clientKey, concat(utf8.encode("umbrek session key\0"), message));
    return `${final},p=${toBase64(proof)}`;
  }

  /** Checks that whoever answered knows the host's verifier. What is given back both sides know, and nobody who listened. */
  check(serverFinal: string): Bytes {
    if (serverFinal.startsWith("e="))
      throw new ProofProblem(
        serverFinal === "e=invalid-proof"
          ? "The access key is wrong."
          : `The host refused the proof (${serverFinal.slice(2)}).`,
      );
    const said = fromBase64(read(serverFinal, "v")[0] ?? "");
    const [expected, sessionKey] = [this.#signature, this.#sessionKey];
    if (!expected || !sessionKey || said.length !== expected.length || said.some((b, i) => b !== expected[i]))
      throw new ProofProblem(
        "Whoever answers for the host does not know its access key: it is not the host. Nothing was opened; tell whoever runs the service.",
      );
    return sessionKey;
  }
}
