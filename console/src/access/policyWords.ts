import type { ConsentRule, HostAct, HostPolicy, NoticeRule, RecordRule } from "../api/types";

export const acts: { act: HostAct; words: string }[] = [
  { act: "watch", words: "see the screen" },
  { act: "control", words: "use mouse and keyboard" },
  { act: "shell", words: "open a terminal" },
  { act: "run", words: "run commands" },
  { act: "read-files", words: "read and copy files" },
  { act: "write-files", words: "change and add files" },
  { act: "power", words: "restart and shut down" },
  { act: "software", words: "install and update programs" },
];

export const actWords = (act: HostAct): string => acts.find((a) => a.act === act)?.words ?? act;

export const consents: { value: ConsentRule; label: string }[] = [
  { value: "never", label: "nobody is asked first" },
  { value: "unless-refused", label: "whoever is logged in is asked first, and who does not answer has agreed" },
  { value: "when-somebody-is-logged-in", label: "whoever is logged in is asked first" },
  { value: "always", label: "a person there is asked every time" },
];

export const notices: { value: NoticeRule; label: string }[] = [
  { value: "none", label: "not told" },
  { value: "during", label: "told while somebody is there" },
  { value: "before", label: "told before and while somebody is there" },
];

export const records: { value: RecordRule; label: string }[] = [
  { value: "none", label: "nothing is recorded" },
  { value: "screen", label: "what shells and desktops show is recorded" },
  { value: "screen-and-keys", label: "what shells and desktops show and what is typed there is recorded" },
];

export const recordWords = (rule: RecordRule | null | undefined): string =>
  records.find((r) => r.value === (rule ?? "none"))?.label ?? "";

export const consentWords = (rule: ConsentRule): string => consents.find((c) => c.value === rule)?.label ?? rule;

export const noticeWords = (rule: NoticeRule | undefined): string =>
  notices.find((n) => n.value === (rule ?? "none"))?.label ?? "";

/** The folders that technicians are let into to read and change files. */
export const rootsWords = (roots: string[] | null | undefined): string =>
  !roots || roots.includes("/")
    ? "files everywhere"
    : roots.length === 0
      ? "files nowhere"
      : `files in ${roots.length === 1 ? roots[0] : `${roots.slice(0, -1).join(", ")} and ${roots.at(-1)}`}`;

/** Folders as they are written: with commas, "everywhere" or "nowhere"; nothing where they come from above. */
export const rootsText = (roots: string[] | null | undefined): string =>
  !roots ? "" : roots.includes("/") ? "everywhere" : roots.length === 0 ? "nowhere" : roots.join(", ");

/** What is written, as folders; null for what comes from above. */
export const rootsOf = (text: string): string[] | null => {
  const words = text.trim();
  if (words === "") return null;
  if (words === "everywhere") return ["/"];
  if (words === "nowhere") return [];
  return words
    .split(",")
    .map((w) => w.trim())
    .filter((w) => w !== "");
};

/** Whether a computer without a screen is given one. */
const given = { value: "yes", label: "given one when a technician comes to control it" };
const without = { value: "no", label: "left without" };
export const giveScreens = [given, without];

export const giveScreenWords = (gives: boolean | null | undefined): string =>
  `a computer without a screen is ${(gives === false ? without : given).label}`;

/** The same in a table. */
export const giveScreenShort = (gives: boolean | null | undefined): string =>
  gives === false ? "not given" : "given where there is none";

/** How far people there may put off that their computer goes down. */
export const putOffWords = (minutes: number | null | undefined): string =>
  minutes ? `people there may put it off, by ${minutes} min in all` : "people there can’t put it off";

/** Acts in a sentence: "run commands, open a terminal"; all of them are "everything". */
export const actList = (list: HostAct[]): string =>
  list.length === 0 ? "nothing" : list.length === acts.length ? "everything" : list.map(actWords).join(", ");

/** True when the host's own side leaves less, or asks for more, than is wanted of it. */
export const isNarrowed = (wanted: HostPolicy, inForce: HostPolicy): boolean =>
  wanted.allowed.some((a) => !inForce.allowed.includes(a)) ||
  wanted.consent !== inForce.consent ||
  (wanted.notice ?? "none") !== (inForce.notice ?? "none") ||
  (wanted.putOffMinutes ?? 0) !== (inForce.putOffMinutes ?? 0) ||
  (wanted.record ?? "none") !== (inForce.record ?? "none") ||
  (wanted.giveScreen ?? true) !== (inForce.giveScreen ?? true) ||
  rootsText(wanted.fileRoots ?? ["/"]) !== rootsText(inForce.fileRoots ?? ["/"]) ||
  (inForce.keyFor ?? []).some((a) => !(wanted.keyFor ?? []).includes(a));
