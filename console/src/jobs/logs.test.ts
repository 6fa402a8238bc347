import { expect, test } from "vitest";
import { isGrave, LINES_SHOWN, logCsv, logWish, oneLine, withMore } from "./logs";

test("what is left empty is not asked for", () => {
  expect(logWish({ file: "", text: " ", least: "", since: "" }, 0)).toEqual({ lines: 1000, follow: true });
  expect(
    logWish(
      { file: "/var/log/syslog", text: " usb ", least: "warning", since: "hour" },
      Date.parse("2026-11-26T12:00:00Z"),
    ),
  ).toEqual({
    lines: 1000,
    file: "/var/log/syslog",
    text: "usb",
    least: "warning",
    since: "2026-11-26T11:00:00.000Z",
    follow: true,
  });
});

test("of too many lines the newest stay", () => {
  const lines = Array.from({ length: LINES_SHOWN }, (_, n) => ({ text: `${n}` }));
  const more = withMore(lines, [{ text: "new" }]);
  expect(more).toHaveLength(LINES_SHOWN);
  expect(more[0]?.text).toBe("1");
  expect(more.at(-1)?.text).toBe("new");
});

test("a line moves no cursor and stays one", () => {
  expect(oneLine("a\u001b[2Jb\r\nc")).toBe("a\u241b[2Jb⏎c");
});

test("errors and worse are grave, warnings and the unknown are not", () => {
  expect(["emergency", "error", "warning", null, undefined].map((s) => isGrave(s as "error"))).toEqual([
    true,
    true,
    false,
    false,
    false,
  ]);
});

test("CSV quotes what would break it", () => {
  expect(
    logCsv([{ at: "2026-11-26T12:00:00Z", severity: "error", source: "kiosk", pid: 7, text: 'no "paper", again' }]),
  ).toBe('At,Severity,Source,Pid,Text\r\n2026-11-26T12:00:00Z,error,kiosk,7,"no ""paper"", again"\r\n');
});
