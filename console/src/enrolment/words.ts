import type { AccessKeyRule, EnrolmentInfo, InstallerInfo, UpdateState } from "../api/types";

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
