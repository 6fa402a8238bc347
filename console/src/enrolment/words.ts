import type { AccessKeyRule, ConsentRule, EnrolmentInfo, HostAct, InstallerInfo, UpdateState } from "../api/types";

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
  { value: "when-somebody-is-logged-in", label: "whoever is logged in is asked first" },
  { value: "always", label: "a person there is asked every time" },
];

export const accessKeys: { value: AccessKeyRule; label: string }[] = [
  { value: "none", label: "none for now" },
  { value: "generate", label: "made by the host, kept in the vault" },
  { value: "ask-at-install", label: "chosen by whoever installs" },
];

export const stateWords = (state: InstallerInfo["state"]): string => state.replace("-", " ");

export const updateWords = (state: UpdateState): string => (state === "went-back" ? "went back to the old one" : state);

/** What became of an attempt to join. */
export function outcome(e: EnrolmentInfo): string {
  switch (e.state) {
    case "waiting":
      return "waits";
    case "took-over":
      return `took over ${e.sameAs?.label ?? "an entry"}`;
    default:
      return e.state;
  }
}
