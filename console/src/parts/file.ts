const cell = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** Rows as CSV (RFC 4180). */
export const csvOf = (rows: string[][]): string => rows.map((row) => row.map(cell).join(",") + "\r\n").join("");

/** Hands a text to the browser as a file. */
export function save(name: string, type: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  URL.revokeObjectURL(url);
}
