import { describe, expect, it } from "vitest";
import { endWords, readText, withEndsOf, writeText } from "./text";

const bytes = (...b: number[]) => Uint8Array.from(b);
const utf8 = (text: string) => new TextEncoder().encode(text);

describe("a text", () => {
  it("comes back byte for byte, whatever its encoding", () => {
    for (const [content, encoding, text] of [
      [utf8("Käse\n"), "utf-8", "Käse\n"],
      [bytes(0xef, 0xbb, 0xbf, 65, 13, 10), "utf-8-mark", "A\r\n"],
      [bytes(0xff, 0xfe, 65, 0, 0xac, 0x20), "utf-16le", "A€"],
      [bytes(0xfe, 0xff, 0, 65, 0x20, 0xac), "utf-16be", "A€"],
      [bytes(75, 0xe4, 115, 101), "latin-1", "Käse"],
      [bytes(), "utf-8", ""],
    ] as const) {
      const found = readText(content);
      expect(found).toEqual({ text, encoding });
      expect(Array.from(writeText(found ?? { text: "", encoding: "utf-8" }))).toEqual(Array.from(content));
    }
  });

  it("is none where bytes say so", () => {
    for (const content of [
      bytes(65, 0, 66),
      bytes(0xff, 0xfe, 65),
      bytes(0x89, 0x50, 0x4e, 0x47, 0x1a, 0x0a),
      bytes(0xe4, 7),
    ])
      expect(readText(content)).toBeUndefined();
  });

  it("has no letter that its encoding lacks", () => {
    expect(() => writeText({ text: "5 €", encoding: "latin-1" })).toThrow("Latin-1, which has no ‘€’");
    expect(() => writeText({ text: "🧀", encoding: "latin-1" })).toThrow("‘🧀’");
  });
});

describe("line ends", () => {
  it("stay where lines stay, and new lines get the usual one", () => {
    expect(withEndsOf("a\r\nb\r\nc\r\n", "a\nB\nb\nc\n")).toBe("a\r\nB\r\nb\r\nc\r\n");
    expect(withEndsOf("a\r\nb\nc\r\nd", "a\nb\nnew\nc\nd")).toBe("a\r\nb\nnew\r\nc\r\nd");
    expect(withEndsOf("a\nb\n", "a\nb\n")).toBe("a\nb\n");
    expect(withEndsOf("a\rb\r", "a\nb\nc\n")).toBe("a\rb\rc\r");
    expect(withEndsOf("one", "one\ntwo\n")).toBe("one\ntwo\n");
    expect(withEndsOf("a\r\nb\r\n", "")).toBe("");
    expect(withEndsOf("a\r\na\na\r\n", "a\na\na\na\n")).toBe("a\r\na\na\r\na\r\n");
  });

  it("are told", () => {
    expect(["x", "a\nb", "a\r\nb\r\n", "a\rb", "a\r\nb\n"].map(endWords)).toEqual([
      "LF at line ends",
      "LF at line ends",
      "CR LF at line ends",
      "CR at line ends",
      "mixed line ends",
    ]);
  });
});
