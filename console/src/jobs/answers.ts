import type { AnswerLine, FoldedAnswer } from "../api/types";

/** What may be passed over, and the words for it. */
export const masks = [
  { word: "times", name: "times" },
  { word: "names", name: "the host's own names" },
  { word: "addresses", name: "addresses" },
  { word: "numbers", name: "numbers" },
] as const;

export const usualMask = "times,names,addresses";

/** The words of a mask with one of them put in or taken out; "nothing" when none is left. */
export function toggled(mask: string, word: string): string {
  const had = new Set(mask.split(","));
  const now = masks.map((m) => m.word).filter((w) => (w === word ? !had.has(w) : had.has(w)));
  return now.length ? now.join(",") : "nothing";
}

/** Lines of a comparison, long stretches of equal ones as one: `equal` of them are not shown. */
export type Shown = AnswerLine | { equal: number };

const AROUND = 2;

/** Keeps what differs and a few lines around it. */
export function onlyDifferent(lines: AnswerLine[]): Shown[] {
  const near = new Set<number>();
  lines.forEach((line, i) => {
    if (line.kind !== "same") for (let j = i - AROUND; j <= i + AROUND; j++) near.add(j);
  });
  const shown: Shown[] = [];
  let equal = 0;
  lines.forEach((line, i) => {
    if (near.has(i)) {
      if (equal) shown.push({ equal });
      equal = 0;
      shown.push(line);
    } else equal++;
  });
  if (equal) shown.push({ equal });
  return shown;
}

/** The fold that most hosts are in, which the others are read against. */
export const commonest = (folds: FoldedAnswer[]): FoldedAnswer | undefined =>
  folds.length > 1 ? folds[folds.length - 1] : undefined;
