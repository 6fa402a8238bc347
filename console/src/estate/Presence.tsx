import type { PresenceInfo } from "../api/types";
import { useNow } from "../parts/Ago";
import { exact, span } from "../parts/time";
import { describe, type PresenceMark } from "./presence";

function Mark({ mark }: { mark: PresenceMark }) {
  return (
    <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true" fill="none" stroke="currentColor">
      {mark === "linked" && <circle cx="7" cy="7" r="4.6" fill="currentColor" stroke="none" />}
      {mark === "broken" && <circle cx="7" cy="7" r="4.6" strokeWidth="2.4" strokeDasharray="4.6 2.6" />}
      {mark === "open" && <circle cx="7" cy="7" r="4.6" strokeWidth="1.7" />}
      {mark === "bar" && <path d="M3 7h8" strokeWidth="2.4" />}
    </svg>
  );
}

/** Mark, word, how long, and why: never colour alone. */
export function Presence({ presence }: { presence: PresenceInfo }) {
  const now = useNow();
  const { mark, word, reason } = describe(presence);
  const linked = presence.state === "linked";
  return (
    <span className={linked ? "presence" : "presence away"} title={`${word} since ${exact(presence.since)}`}>
      <Mark mark={mark} />
      <span className="why">
        {word}
        {presence.state === "away" && ` ${span(now - Date.parse(presence.since))}`}
        {reason && `, ${reason}`}
      </span>
    </span>
  );
}
