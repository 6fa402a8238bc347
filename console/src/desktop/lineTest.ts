/** What a look at the line has found. */
export interface LineFigures {
  /** How long a word took there and back, each time, in milliseconds. */
  delays: readonly number[];
  /** What one whole picture had, and from asking for it to its last byte. */
  bytes: number;
  took: number;
}

export const PINGS = 12;
export const BETWEEN = 120;

/** No more comes of a picture when nothing has come for so long; and so long it is waited for at most. */
export const QUIET = 250;
export const PATIENCE = 15_000;

const LATE = 150;
const VERY_LATE = 350;
const SLOW = 1_000;
const VERY_SLOW = 4_000;

/** The figures in words, and what they mean for who works over this line. */
export function judge({ delays, bytes, took }: LineFigures): { figures: string; means: string; poor: boolean } {
  if (delays.length < PINGS / 2)
    return {
      figures: `${String(delays.length)} of ${String(PINGS)} words came back`,
      means: "The line loses what is said, or holds it up for seconds. Try again, or from another network.",
      poor: true,
    };
  const sorted = [...delays].sort((a, b) => a - b);
  const median = sorted[Math.floor(sorted.length / 2)] ?? 0;
  const [least = 0, most = 0] = [sorted[0], sorted.at(-1)];
  const ms = (value: number) => `${value < 10 ? value.toFixed(1) : value.toFixed(0)} ms`;
  const size = bytes < 10_000 ? `${(bytes / 1000).toFixed(1)} kB` : `${(bytes / 1000).toFixed(0)} kB`;
  const figures = `there and back ${ms(median)} (${ms(least)} to ${ms(most)}), a whole picture of ${size} in ${ms(took)}`;
  const [late, veryLate] = [median > LATE || took > SLOW, median > VERY_LATE || took > VERY_SLOW];
  const unsteady = most > 4 * median && most > LATE;
  if (veryLate)
    return {
      figures,
      means:
        "A poor line: what you do shows late. Type in few words at a time; a shell or a command may be the better way.",
      poor: true,
    };
  if (late) return { figures, means: "Good enough to work: what you do shows a moment later.", poor: false };
  if (unsteady)
    return { figures, means: "Fast, but unsteady: now and then what you do shows a moment later.", poor: false };
  return { figures, means: "A good line: what you do shows at once.", poor: false };
}
