/** A customer's mark until it chooses its own: a signal flag made from its name, always the same for the same name. */
export interface EmblemDesign {
  pattern: "halves" | "bands" | "quarters" | "cross" | "saltire" | "border" | "disc";
  field: string;
  charge: string;
}

const patterns: EmblemDesign["pattern"][] = ["halves", "bands", "quarters", "cross", "saltire", "border", "disc"];
// Pairs that stay apart from each other, from the lamp, and from the colours of trouble.
const pairs: [string, string][] = [
  ["#3f7f8c", "#dfe9e2"],
  ["#6f8f4e", "#eef0d8"],
  ["#5b6fa8", "#e6e8f2"],
  ["#9a5f86", "#f2e3ec"],
  ["#7d6a55", "#efe6d8"],
  ["#4d8a6c", "#e0f0e6"],
  ["#8a7fb0", "#efeaf8"],
  ["#5c7a3f", "#f0efc9"],
  ["#3d6f9e", "#d9ebf7"],
  ["#a5687a", "#f6e6e2"],
];

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

export function emblemOf(customer: string): EmblemDesign {
  const h = hash(customer);
  const [field, charge] = pairs[(h >>> 8) % pairs.length] ?? ["#5b6fa8", "#e6e8f2"];
  return { pattern: patterns[h % patterns.length] ?? "halves", field, charge };
}

export const customerOf = (groupPath: string) => groupPath.split("/")[0] ?? "";
