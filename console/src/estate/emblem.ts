export type Pattern = "halves" | "bands" | "quarters" | "cross" | "saltire" | "border" | "disc";

/** A customer's mark: a signal flag of a pattern in two colours. */
export interface EmblemDesign {
  pattern: Pattern;
  field: string;
  charge: string;
}

export const patterns: Pattern[] = ["halves", "bands", "quarters", "cross", "saltire", "border", "disc"];

// Pairs that stay apart from each other, from the lamp, and from the colours of trouble.
export const colours: Record<string, [string, string]> = {
  lagoon: ["#3f7f8c", "#dfe9e2"],
  moss: ["#6f8f4e", "#eef0d8"],
  harbour: ["#5b6fa8", "#e6e8f2"],
  heather: ["#9a5f86", "#f2e3ec"],
  driftwood: ["#7d6a55", "#efe6d8"],
  kelp: ["#4d8a6c", "#e0f0e6"],
  thistle: ["#8a7fb0", "#efeaf8"],
  fern: ["#5c7a3f", "#f0efc9"],
  offing: ["#3d6f9e", "#d9ebf7"],
  rosehip: ["#a5687a", "#f6e6e2"],
};

export const colourWords = Object.keys(colours);

/** What a customer chose; without it the name decides, always the same way. */
export interface Chosen {
  colour?: string | null | undefined;
  emblem?: string | null | undefined;
}

// FNV-1a. The start value is chosen so that the customers of the demo world differ in pattern and colour; among others two can
// still be alike, so the name always stands beside the mark.
function hash(text: string): number {
  let h = 2166139988;
  for (const c of text) h = Math.imul(h ^ (c.codePointAt(0) ?? 0), 16777619);
  // Names that are alike differ in few bits; this spreads them over all (the finaliser of MurmurHash3).
  h = Math.imul(h ^ (h >>> 16), 0x85ebca6b);
  h = Math.imul(h ^ (h >>> 13), 0xc2b2ae35);
  return (h ^ (h >>> 16)) >>> 0;
}

export function emblemOf(customer: string, chosen: Chosen = {}): EmblemDesign {
  const h = hash(customer);
  const byName = colourWords[(h >>> 8) % colourWords.length] ?? "harbour";
  const [field, charge] = colours[chosen.colour ?? byName] ?? colours[byName] ?? ["#5b6fa8", "#e6e8f2"];
  const pattern = patterns.find((p) => p === chosen.emblem) ?? patterns[h % patterns.length] ?? "halves";
  return { pattern, field, charge };
}

export const customerOf = (groupPath: string) => groupPath.split("/")[0] ?? "";
