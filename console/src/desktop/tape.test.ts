import { describe, expect, it } from "vitest";
import { readableKey, readTape, wordsOf } from "./tape";

const HEADER = '{"version":1,"kind":"screen","control":true}\n';
const rfb = (at: number, bytes: number[]): (string | Uint8Array<ArrayBuffer>)[] => [
  `[${String(at)},"rfb",${String(bytes.length)}]\n`,
  new Uint8Array(bytes),
];
const read = (...parts: (string | Uint8Array<ArrayBuffer>)[]) => readTape(new Blob([HEADER, ...parts]));

describe("readTape", () => {
  it("knows where bytes lie, though they look like lines", async () => {
    const blob = new Blob([
      HEADER,
      '[0.1,"open",{"screen":":0"}]\n',
      ...rfb(0.2, [10, 91, 49, 10]),
      '[0.3,"typing",{}]\n',
      ...rfb(0.3, []),
      ...rfb(0.4, [7]),
    ]);
    const tape = await readTape(blob);
    expect(tape.control).toBe(true);
    expect(tape.entries.map((e) => [e.at, e.kind, e.length])).toEqual([
      [0.1, "open", 0],
      [0.2, "rfb", 4],
      [0.3, "typing", 0],
      [0.3, "rfb", 0],
      [0.4, "rfb", 1],
    ]);
    for (const [i, bytes] of [
      [1, [10, 91, 49, 10]],
      [4, [7]],
    ] as const) {
      const { from, length } = tape.entries[i] as { from: number; length: number };
      expect([...new Uint8Array(await blob.slice(from, from + length).arrayBuffer())]).toEqual(bytes);
    }
  });

  it("reads one that is larger than a piece", async () => {
    const much = new Uint8Array(1_500_000);
    const tape = await read(
      '[1,"rfb",1500000]\n',
      much,
      '[2,"rfb",700000]\n',
      much.slice(0, 700_000),
      '[3,"mark",{}]\n',
    );
    expect(tape.entries.map((e) => [e.at, e.length])).toEqual([
      [1, 1_500_000],
      [2, 700_000],
      [3, 0],
    ]);
  });

  it("ends with the last whole entry of one that is still written", async () => {
    expect((await read(...rfb(1, [1, 2]), '[2,"rfb",9]\n', new Uint8Array(4))).entries).toHaveLength(1);
    expect((await read(...rfb(1, [1, 2]), '[2,"mar')).entries).toHaveLength(1);
    expect((await read()).entries).toEqual([]);
  });

  it("lets no entry go back in time", async () => {
    expect((await read('[5,"mark",{}]\n', '[3,"mark",{}]\n')).entries.map((e) => e.at)).toEqual([5, 5]);
  });

  it("says what is no recording, and where one is broken", async () => {
    for (const no of ["", "tide\n", "{}\n", '{"version":2,"kind":"screen"}\n'])
      await expect(readTape(new Blob([no]))).rejects.toThrow("no recording");
    await expect(read('[1,"mark",{}]\n', "[2]\n")).rejects.toThrow("entry 2");
    await expect(read('[1,"rfb",-4]\n')).rejects.toThrow("no length");
    await expect(read(`[1,"mark",{"text":"${"x".repeat(3_000_000)}"}]`)).rejects.toThrow("too long");
  });
});

it("says in words what happened, and nothing of what is seen", () => {
  const words = (kind: string, said: Record<string, unknown> = {}) => wordsOf({ kind, said });
  expect(words("open", { screen: ":0", person: "Wynn" })).toBe("screen :0, of Wynn");
  expect(words("open", { screen: ":0" })).toBe("screen :0, nobody logged in");
  expect(words("clipboard", { from: "host", bytes: 17 })).toContain("17 bytes");
  expect(words("secret", { name: "till" })).toBe("a secret is typed, unseen: till");
  expect(words("rfb")).toBeUndefined();
  expect(words("of another version")).toBeUndefined();
});

it("shows keys that went down, by what they make", () => {
  const key = (sym: number, down = true) => readableKey({ down, sym });
  expect([key(0x61), key(0xff0d), key(0x010020ac), key(0x61, false), key(0xffe1)]).toEqual(["a", "↵", "€", "", ""]);
});
