import type { SecretInfo } from "../api/types";

export const kindWords = (kind: SecretInfo["kind"]): string => (kind === "access-key" ? "Access key" : "Logon");

/** What a secret is called in a sentence: "the logon 'till'", "the access key". */
export const called = (secret: SecretInfo): string =>
  secret.kind === "access-key" ? "the access key" : `the logon “${secret.name}”`;
