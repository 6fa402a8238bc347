const number = /^[+-]?[\d.,]+(e[+-]?\d+)?( ?%)?$/i;

/** What a spreadsheet would take for a formula, of what hosts and people wrote, is kept a text (OWASP ASVS 5.0, 1.2.10). */
const harmless = (text: string) => (/^[=+\-@\t\r\0]/.test(text) && !number.test(text) ? `'${text}` : text);

const quoted = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** Rows as CSV (RFC 4180). */
export const csvOf = (rows: string[][]): string =>
  rows.map((row) => row.map((text) => quoted(harmless(text))).join(",") + "\r\n").join("");

/** Hands a text to the browser as a file. */
export const save = (name: string, type: string, text: string) => saveBlob(name, new Blob([text], { type }));

/** The same for what is no text. */
export function saveBlob(name: string, content: Blob) {
  const url = URL.createObjectURL(content);
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  URL.revokeObjectURL(url);
}
