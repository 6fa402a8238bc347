import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { TurnAct, TurnInfo, TwinChoice, TwinFolder, TwinInfo, TwinRules } from "../api/types";
import { bytes } from "../parts/time";

/** How often a turn that goes on is asked how far it is, in milliseconds. */
const EVERY = 700;

export const isOn = (turn: TurnInfo | null | undefined) => !!turn && turn.endedAt == null;

export const arrow = (rules: TwinRules) => (rules.way === "both-ways" ? "↔" : "→");

/** Which way changes go, in a few words. */
export const wayWords = (rules: TwinRules) =>
  rules.way === "both-ways"
    ? "Both ways: what was changed on either side goes to the other"
    : rules.deletes
      ? "One way: the second becomes what the first is, and what is not there is taken away"
      : "One way: the second gets what the first has";

export const folderWords = (folder: TwinFolder) =>
  folder.shelfId
    ? `the shelf ${folder.label ?? "that you may not see"}${folder.path.text === "/" ? "" : `:${folder.path.text}`}`
    : `${folder.label ?? "a host that you may not see"}:${folder.path.text}`;

/** "done: 3 things, 1.2 MiB of files by 40 KiB on the lines, 120 in step before, 1 conflict". */
export function turnWords(turn: TurnInfo): string {
  const some = (n: number, one: string, many: string) => (n > 0 ? [`${n} ${n === 1 ? one : many}`] : []);
  const parts = [
    ...(turn.dryRun
      ? some(turn.acts, "thing to do", "things to do")
      : some(turn.actsDone, "thing done", "things done")),
    ...(turn.bytes > 0
      ? [
          turn.dryRun
            ? `${bytes(turn.bytes)} of files`
            : `${bytes(turn.bytesDone)} of files by ${bytes(turn.bytesMoved)} on the lines`,
        ]
      : []),
    ...some(turn.same, "in step before", "in step before"),
    ...some(turn.conflicts, "conflict", "conflicts"),
    ...some(turn.problems, "problem", "problems"),
  ];
  const state = turn.state + (turn.dryRun ? " (dry run)" : "");
  return parts.length > 0 ? `${state}: ${parts.join(", ")}` : state;
}

/** How far a turn is that goes on. */
export function progressWords(turn: TurnInfo): string {
  switch (turn.state) {
    case "looking":
      return "Looking at both folders";
    case "waiting":
      return `Waiting: ${turn.reason ?? "a host is away"}`;
    default:
      return `${turn.actsDone} of ${turn.acts} done, ${bytes(turn.bytesDone)} of ${bytes(turn.bytes)}`;
  }
}

/** What was done with one thing, or would be. */
export function actWord(act: TurnAct, dryRun: boolean): string {
  if (act.deed === "conflict") return "conflict";
  if (act.deed === "left") return "left";
  if (!act.isDone && !dryRun) return "not done";
  switch (act.deed) {
    case "folder":
      return "folder";
    case "file":
      return act.replaces ? "changed" : "new";
    case "link":
      return "link";
    case "delete":
      return "to the trash";
    default:
      return "mode and time";
  }
}

/** Why a twin can't be made yet; undefined where it can. */
export function missing(form: TwinForm): string | undefined {
  if (!form.name.trim()) return "Give it a name first";
  if (!form.firstHost || !form.secondHost) return "Choose a host or a shelf for either side first";
  if (isShelf(form.firstHost) && isShelf(form.secondHost)) return "One of the folders has to be a host’s";
  const odd = [form.firstPath, form.secondPath].find((p) => !p.startsWith("/"));
  if (odd === "") return "Name a folder on either side first";
  if (odd) return `${odd} is no whole path; write it from the root`;
  return form.rate.trim() && !(Number(form.rate) > 0)
    ? `${form.rate} is no rate; write a number of MiB, such as 2 or 0.5`
    : undefined;
}

/** What stands for a shelf where a host may stand. */
export const shelfChoice = (id: string) => `shelf:${id}`;

const isShelf = (choice: string) => choice.startsWith("shelf:");

const placeOf = (choice: string, path: string) =>
  isShelf(choice)
    ? { hostId: null, shelfId: choice.slice("shelf:".length), path: { text: path } }
    : { hostId: choice, path: { text: path } };

/** What a form holds once a host or a shelf is chosen for a side: of a shelf all of it, unless a folder is named. */
export const chosen = (form: TwinForm, side: "first" | "second", choice: string): Partial<TwinForm> => ({
  [`${side}Host`]: choice,
  ...(isShelf(choice) && !form[`${side}Path`] ? { [`${side}Path`]: "/" } : {}),
});

export interface TwinForm {
  name: string;
  /** A host's id, or what stands for a shelf. */
  firstHost: string;
  firstPath: string;
  secondHost: string;
  secondPath: string;
  bothWays: boolean;
  deletes: boolean;
  leaves: string;
  rate: string;
}

export const emptyForm: TwinForm = {
  name: "",
  firstHost: "",
  firstPath: "",
  secondHost: "",
  secondPath: "",
  bothWays: false,
  deletes: false,
  leaves: "",
  rate: "",
};

/** What a form asks the service for. */
export const wishOf = (form: TwinForm) => {
  const leaves = form.leaves
    .split(",")
    .map((l) => l.trim())
    .filter(Boolean);
  return {
    name: form.name.trim(),
    first: placeOf(form.firstHost, form.firstPath),
    second: placeOf(form.secondHost, form.secondPath),
    rules: {
      way: form.bothWays ? ("both-ways" as const) : ("one-way" as const),
      deletes: !form.bothWays && form.deletes,
      leaves: leaves.length > 0 ? leaves : null,
    },
    rate: form.rate.trim() ? Math.round(Number(form.rate) * 1024 * 1024) : null,
  };
};

export function useTwins(enabled: boolean) {
  return useQuery({
    queryKey: ["twins"],
    queryFn: () => ask(api.GET("/api/v1/twins")) as Promise<TwinInfo[]>,
    enabled,
    refetchInterval: (query) => (query.state.data?.some((t) => isOn(t.turn)) ? EVERY : false),
  });
}

export function useTwin(id: string) {
  return useQuery({
    queryKey: ["twins", id],
    queryFn: () => ask(api.GET("/api/v1/twins/{id}", { params: { path: { id } } })) as Promise<TwinInfo>,
    refetchInterval: (query) => (isOn(query.state.data?.turn) ? EVERY : false),
  });
}

/** What the turn did that ended at a time. */
export function useTwinActs(id: string, endedAt: string | null | undefined) {
  return useQuery({
    queryKey: ["twins", id, "acts", endedAt],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/twins/{id}/acts", { params: { path: { id } } }))).items as TurnAct[],
    enabled: !!endedAt,
  });
}

export interface TurnWish {
  dryRun?: boolean;
  choice?: TwinChoice;
  only?: TurnAct["path"][];
  thoughEmpty?: boolean;
  usesVault?: boolean;
}

export const takeTurn = (id: string, { dryRun, choice, only, thoughEmpty, usesVault }: TurnWish) =>
  ask(
    api.POST("/api/v1/twins/{id}/turns", {
      params: { path: { id } },
      body: {
        dryRun: dryRun ?? false,
        settling: choice ? { choice, paths: only ?? null } : null,
        thoughEmpty: thoughEmpty ?? false,
        usesVault: usesVault ?? false,
      },
    }),
  ) as Promise<TwinInfo>;

/** An act on twins; what pages show of them is read anew after it. */
export function useTwinAct<T, R>(act: (wish: T) => Promise<R>, onDone?: (made: R) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: (made) => {
      onDone?.(made);
      return queries.invalidateQueries({ queryKey: ["twins"] });
    },
  });
}
