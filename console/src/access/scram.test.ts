import { createHmac, pbkdf2Sync, webcrypto } from "node:crypto";
import { beforeAll, describe, expect, it, vi } from "vitest";
import { newNonce, Prover, ProofProblem, toBase64 } from "./scram";

/** RFC 7677, section 3. */
const standard = {
  nonce: "rOprNGfwEbeRWgbNEkqO",
  first: "r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096",
  proof: "c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=",
  final: "v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=",
};

describe("a proof of a host's key", () => {
  beforeAll(() => {
    vi.stubGlobal("crypto", webcrypto);
  });

  it("is the standard's, message by message", async () => {
    const prover = new Prover("user", "pencil", standard.nonce);
    expect(prover.first).toBe("n,,n=user,r=rOprNGfwEbeRWgbNEkqO");
    expect(await prover.prove(standard.first)).toBe(standard.proof);
    expect(prover.check(standard.final)).toHaveLength(32);
  });

  it("is bound to its channel, and leaves the session key that the host has too", async () => {
    const binding = new Uint8Array(32).fill(7);
    const prover = new Prover("access-key", "harbour lamp seven gulls", newNonce(), binding);
    const nonce = prover.first.slice(prover.first.lastIndexOf("r=") + 2);
    const salt = Buffer.from("saltsalt");
    const first = `r=${nonce}and-the-hosts,s=${salt.toString("base64")},i=60000`;
    const proof = await prover.prove(first);
    expect(
      proof.startsWith(`c=${Buffer.concat([Buffer.from("p=umbrek-channel,,"), binding]).toString("base64")},`),
    ).toBe(true);
    const mac = (key: Buffer, data: string) => createHmac("sha256", key).update(data).digest();
    const salted = pbkdf2Sync("harbour lamp seven gulls", salt, 60000, 32, "sha256");
    const message = `n=access-key,r=${nonce},${first},${proof.slice(0, proof.lastIndexOf(",p="))}`;
    const final = `v=${mac(mac(salted, "Server Key"), message).toString("base64")}`;
    expect(toBase64(prover.check(final))).toBe(
      mac(mac(salted, "Client Key"), `umbrek session key\0${message}`).toString("base64"),
    );
  });

  it("is not made for whoever repeats an exchange, wants few iterations or endless ones, or can't prove itself", async () => {
    const prover = new Prover("access-key", "harbour lamp seven gulls", "mine-mine-mine-mine-mine", new Uint8Array(32));
    for (const wrong of [
      "r=mine-mine-mine-mine-mine,s=c2FsdHNhbHQ=,i=60000",
      "r=somebody-elses,s=c2FsdHNhbHQ=,i=60000",
      "r=mine-mine-mine-mine-minex,s=c2FsdHNhbHQ=,i=1",
      "r=mine-mine-mine-mine-minex,s=c2FsdHNhbHQ=,i=1000000000",
      "s=c2FsdHNhbHQ=,r=mine-mine-mine-mine-minex,i=60000",
      "r=mine-mine-mine-mine-minex,s=!,i=60000",
      "",
    ])
      await expect(prover.prove(wrong)).rejects.toBeInstanceOf(ProofProblem);
    expect(() => prover.check("v=AAAA")).toThrow(/not the host/);
    expect(() => prover.check("e=invalid-proof")).toThrow("The access key is wrong.");
  });

  it("takes another nonce each time", () => {
    expect(newNonce()).toMatch(/^[A-Za-z0-9]{24}$/);
    expect(newNonce()).not.toBe(newNonce());
  });
});
