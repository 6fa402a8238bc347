import type { SessionAct } from "../api/types";

/** What the audit log calls it, and how it is said; what is in square brackets of its detail stands behind. */
const said: Partial<Record<string, string>> = {
  "session.open": "the session begins",
  "session.end": "the session ends [why]",
  "session.note": "a note is written",
  "desktop.watch": "the desktop is watched",
  "desktop.control": "the desktop is controlled",
  "desktop.take-input": "the keyboards of the host are taken",
  "desktop.give-input-back": "the keyboards of the host are given back",
  "desktop.hide": "the screen is hidden from the people there",
  "desktop.show-again": "the people there see the screen again",
  "desktop.lock": "the screen is locked on leaving",
  "desktop.lock-failed": "the screen was to be locked on leaving, and was not",
  "desktop.give-screen": "the host is given a screen",
  "desktop.end-there": "somebody there ends it",
  "shell.open": "a shell begins [command]",
  "shell.resume": "a shell goes on",
  "shell.end": "a shell ends",
  "access-key.prove": "the access key is proven",
  "access-key.refuse": "the access key is refused [why]",
  "secret.use": "a secret of the vault is used [name]",
  "invitation.send": "a colleague is asked to come [to]",
  "consent.agree": "somebody there agrees",
  "consent.refuse": "somebody there refuses",
};

/** An act of a session in a few words. */
export function actWords(act: SessionAct): string {
  const detail = parse(act.detail);
  const words = said[act.action];
  if (!words) return `${act.action.replace(".", ": ").replaceAll("-", " ")}${detail.path ? `, ${detail.path}` : ""}`;
  return words.replace(/ \[(\w+)\]/, (_, name: string) => (detail[name] ? `: ${detail[name]}` : ""));
}

function parse(detail: string): Partial<Record<string, string>> {
  try {
    return JSON.parse(detail) as Record<string, string>;
  } catch {
    return {};
  }
}
