import type { PowerAct, PowerWish } from "../api/types";

export const powerActs: { act: PowerAct; label: string; lost: string }[] = [
  { act: "restart", label: "Restart", lost: "Work that is not saved there is lost." },
  {
    act: "shut-down",
    label: "Shut down",
    lost: "Work that is not saved there is lost, and somebody has to switch it on, or wake it.",
  },
  { act: "sleep", label: "Put to sleep", lost: "Nobody reaches it until it is woken." },
  { act: "log-out", label: "Log out", lost: "What the person has open is closed, and work that is not saved is lost." },
  { act: "lock", label: "Lock the screen", lost: "Nothing is lost." },
];

export const isPowerAct = (word: string | null): word is PowerAct => powerActs.some((a) => a.act === word);

/** Whether people are told before, and given time. */
export const takesGrace = (act: PowerAct) => act !== "lock";

/** Whether it may be about one person. */
export const takesPerson = (act: PowerAct) => act === "log-out" || act === "lock";

/** The act with the computers that it is about: "Restart quay-ticket-03 of Saltmarsh Ferry". */
export function sentence({ act, person }: PowerWish, where: string): string {
  switch (act) {
    case "restart":
      return `Restart ${where}`;
    case "shut-down":
      return `Shut down ${where}`;
    case "sleep":
      return `Put ${where} to sleep`;
    case "log-out":
      return `Log ${person ?? "everybody"} out of ${where}`;
    default:
      return person ? `Lock the screen of ${person} on ${where}` : `Lock every screen of ${where}`;
  }
}

/** What was filled in, as it is sent. @param minutes how long people are told before */
export function powerWish(act: PowerAct, minutes: string | number, message: string, person: string): PowerWish {
  const grace = minutes === "" ? 0 : Number(minutes);
  return {
    act,
    graceSeconds: takesGrace(act) && grace > 0 ? Math.round(grace * 60) : 0,
    ...(takesGrace(act) && message.trim() ? { message: message.trim() } : {}),
    ...(takesPerson(act) && person ? { person } : {}),
  };
}
