import { api, ask } from "../api/client";
import type { PasskeyInfo } from "../api/types";

/** Whether this browser can hold or use passkeys (WebAuthn Level 3). */
export const canUsePasskeys = (): boolean =>
  typeof PublicKeyCredential !== "undefined" && "parseRequestOptionsFromJSON" in PublicKeyCredential;

const toldOff = (e: unknown): never => {
  // The browser's own words for what a person does: closing its window, or taking too long.
  if (e instanceof DOMException && (e.name === "NotAllowedError" || e.name === "AbortError"))
    throw new Error("The browser was not unlocked for it, or the window was closed. Try again.");
  if (e instanceof DOMException && e.name === "InvalidStateError")
    throw new Error("This device has a passkey for you already.");
  throw e;
};

/** Signs in with a passkey of this device, or of one near it. */
export async function signInWithPasskey(): Promise<void> {
  const begun = await ask(api.POST("/api/v1/sign-in/passkey/begin"));
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(
    begun.options as unknown as PublicKeyCredentialRequestOptionsJSON,
  );
  const found = await navigator.credentials.get({ publicKey }).catch(toldOff);
  await ask(
    api.POST("/api/v1/sign-in/passkey", {
      body: { ceremony: begun.ceremony, credential: (found as PublicKeyCredential).toJSON() as never },
    }),
  );
}

/** Makes a passkey on this device, and has the service keep its public key. */
export async function addPasskey(name: string, password: string): Promise<PasskeyInfo> {
  const begun = await ask(api.POST("/api/v1/me/passkeys/begin", { body: { password } }));
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    begun.options as unknown as PublicKeyCredentialCreationOptionsJSON,
  );
  const made = await navigator.credentials.create({ publicKey }).catch(toldOff);
  return ask(
    api.POST("/api/v1/me/passkeys", {
      body: { name, ceremony: begun.ceremony, credential: (made as PublicKeyCredential).toJSON() as never },
    }),
  );
}
