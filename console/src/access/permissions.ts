import type { Permission } from "../api/types";

/** All permissions, in the order of what they open, with what each is good for. */
export const permissions: { word: Permission; says: string }[] = [
  { word: "see", says: "hosts, their health and what happened to them" },
  { word: "watch", says: "look at the screen" },
  { word: "control", says: "use mouse and keyboard" },
  { word: "shell", says: "open a shell" },
  { word: "run", says: "run commands, and read what they put out" },
  { word: "read-files", says: "look at files and fetch them" },
  { word: "write-files", says: "change files and send them" },
  { word: "power", says: "restart, shut down, wake" },
  { word: "software", says: "install and update, also the agent" },
  { word: "scan", says: "look for computers around a host" },
  { word: "configure", says: "labels, groups, tags, notes, customers" },
  { word: "use-secrets", says: "use what the vault keeps, unseen" },
  { word: "reveal-secrets", says: "read what the vault keeps" },
  { word: "approve", says: "make installers and let computers join" },
  { word: "administer", says: "say who gets in, and read the audit log" },
];
