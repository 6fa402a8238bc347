import type { PresenceInfo } from "../api/types";

export type PresenceMark = "linked" | "broken" | "open" | "bar";

const reasons: Record<string, string> = {
  "agent-stopped": "agent stopped",
  "host-shutting-down": "host shut down",
  "agent-updating": "agent updating",
  "lost-contact": "lost contact",
  "replaced-by-newer-link": "replaced by a newer link",
  "link-refused": "link refused",
};

/** A host's presence in a word, with the reason when there is one. */
export function describe(presence: PresenceInfo): { mark: PresenceMark; word: string; reason: string } {
  const losses = presence.losses ?? 0;
  if (losses > 0 && (presence.state === "linked" || presence.reason === "lost-contact"))
    return { mark: "broken", word: `unsteady, ${presence.state}`, reason: `lost ${losses} times in 15 min` };
  switch (presence.state) {
    case "linked":
      return { mark: "linked", word: "linked", reason: "" };
    case "returning":
      return { mark: "broken", word: "expected back", reason: "the service restarted" };
    case "expected":
      return { mark: "bar", word: "never linked yet", reason: "start its agent" };
    default:
      return { mark: "open", word: "away", reason: reasons[presence.reason] ?? "" };
  }
}
