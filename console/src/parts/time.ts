/** A length of time in its largest units: "4 s", "12 min", "3 h 5 min", "9 d". */
export function span(milliseconds: number): string {
  const seconds = Math.max(0, Math.floor(milliseconds / 1000));
  if (seconds < 60) return `${seconds} s`;
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  if (hours < 24) return minutes % 60 === 0 ? `${hours} h` : `${hours} h ${minutes % 60} min`;
  const days = Math.floor(hours / 24);
  return hours % 24 === 0 || days >= 7 ? `${days} d` : `${days} d ${hours % 24} h`;
}

/** The exact time, for a title or a focus. */
export function exact(time: string): string {
  return new Date(time).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "medium" });
}

/** A moment that people agree on, to the minute. */
export function minute(time: string): string {
  return new Date(time).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
}

const units = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

/** A size in bytes with a binary unit (IEC 80000-13). */
export function bytes(size: number): string {
  let unit = 0;
  while (Math.abs(size) >= 1024 && unit < units.length - 1) {
    size /= 1024;
    unit++;
  }
  return `${unit === 0 || Math.abs(size) >= 100 ? Math.round(size) : size.toFixed(1)} ${units[unit]}`;
}
