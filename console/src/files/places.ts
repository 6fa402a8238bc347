import { whole } from "../parts/number";

/** Places that each system knows, and what people call them. */
export const places = [
  { value: "home", label: "Home of whoever is logged in" },
  { value: "desktop", label: "Desktop of whoever is logged in" },
  { value: "documents", label: "Documents of whoever is logged in" },
  { value: "downloads", label: "Downloads of whoever is logged in" },
  { value: "temporary", label: "Folder for temporary files" },
  { value: "settings", label: "The system's settings" },
  { value: "programs", label: "Folder for programs" },
  { value: "program-data", label: "Data that programs share" },
  { value: "fonts", label: "The system's fonts" },
] as const;

export type NamedPlace = (typeof places)[number]["value"];

/** What becomes of a file that is there already and is another one. */
export const existingWays = [
  { value: "ask", label: "Ask me, and leave that host as it is until then" },
  { value: "keep", label: "Keep it" },
  { value: "replace", label: "Replace it; the old one goes to the host's trash" },
  { value: "replace-older", label: "Replace it where it is older" },
  { value: "rename", label: "Put the new one beside it" },
] as const;

export type ExistingWay = (typeof existingWays)[number]["value"];

/** What is said of where files go, as the fields hold it. */
export interface Destination {
  place: NamedPlace | "";
  folder: string;
  makesFolder: boolean;
  existing: ExistingWay;
  stopsAtError: boolean;
  mode: string;
  owner: string;
  /** MiB a second to all hosts together. */
  rate: string | number;
}

export const nowhere: Destination = {
  place: "",
  folder: "",
  makesFolder: false,
  existing: "ask",
  stopsAtError: false,
  mode: "",
  owner: "",
  rate: "",
};

/** What is missing or wrong with it, in words. */
export function problemOf(to: Destination): string | undefined {
  const folder = to.folder.trim();
  if (!to.place && !folder) return "Say where they go first";
  if (!to.place && !folder.startsWith("/")) return "Write the folder from the root, such as /etc/kiosk";
  if (to.place && folder.split("/").some((p) => p === "." || p === ".."))
    return "Below a place no dots lead to other folders";
  if (to.mode.trim() && !/^0?[0-7]{3}$/.test(to.mode.trim())) return "A mode has three digits up to 7, such as 0640";
  if (to.owner.trim() && !/^[^:]*(:[^:]*)?$/.test(to.owner.trim()))
    return "An owner is a user, or a user and a group as kiosk:www-data";
  return undefined;
}

/** As the API takes it. */
export function deliverOf(to: Destination, parcel: { digest: string; name: string; files: number; bytes: number }) {
  const [owner, group] = to.owner.trim().split(":");
  const rate = whole(to.rate);
  const folder = to.place ? to.folder.trim().replace(/^\/+|\/+$/g, "") : to.folder.trim();
  return {
    ...parcel,
    ...(folder ? { folder: { text: folder } } : {}),
    ...(to.place ? { place: to.place } : {}),
    makesFolder: to.makesFolder,
    existing: to.existing,
    stopsAtError: to.stopsAtError,
    ...(to.mode.trim() ? { mode: parseInt(to.mode.trim(), 8) } : {}),
    ...(owner ? { owner } : {}),
    ...(group ? { group } : {}),
    ...(rate !== null && rate > 0 ? { rate: Math.max(1024, Math.round(rate * 1024 * 1024)) } : {}),
  };
}
