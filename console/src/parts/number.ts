/** A number that was typed, or null. While it is typed it may be a text, such as "05". */
export function whole(value: string | number): number | null {
  const number = typeof value === "string" && value.trim() === "" ? Number.NaN : Number(value);
  return Number.isFinite(number) ? number : null;
}
