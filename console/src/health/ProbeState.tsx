import type { ProbeState as State } from "../api/types";
import { isBad, probeStateWords } from "./probeWords";

/** A tick, a cross or a question, with the word: what the colour says, the shape says too. */
export function ProbeState({ state, past }: { state: State | undefined; past: string | null | undefined }) {
  const bad = isBad(state, past);
  const known = state === "well" || state === "failed";
  return (
    <span className={`severity ${bad ? "trouble" : state === "well" ? "" : "muted"}`}>
      <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
        {bad ? (
          <path d="M3 3l8 8M11 3l-8 8" stroke="currentColor" strokeWidth="1.8" fill="none" strokeLinecap="round" />
        ) : known ? (
          <path d="M2.5 7.5l3 3 6-7" stroke="currentColor" strokeWidth="1.8" fill="none" strokeLinecap="round" />
        ) : (
          <path
            d="M3 7h8"
            stroke="currentColor"
            strokeWidth="1.8"
            fill="none"
            strokeLinecap="round"
            strokeDasharray="2 3"
          />
        )}
      </svg>
      {probeStateWords(state, past)}
    </span>
  );
}
