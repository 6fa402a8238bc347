/** A word as a record. */
export const wordRecord = (word: object) => toRecord(1, new TextEncoder().encode(JSON.stringify(word)));

/** Bytes of a file as a record; at most {@link MOST_BYTES}. */
export const dataRecord = (bytes: Uint8Array) => toRecord(2, bytes);

/** Most bytes of one record. */
export const MOST_BYTES = 64 * 1024 - 5;

function toRecord(kind: number, bytes: Uint8Array): ArrayBuffer {
  const record = new Uint8Array(5 + bytes.length);
  record[0] = kind;
  new DataView(record.buffer).setUint32(1, bytes.length, true);
  record.set(bytes, 5);
  return record.buffer;
}

/** Questions go and answers come as records `u8 kind | u32 length, little-endian | bytes`, cut into messages anywhere. */
export class Records {
  #rest = new Uint8Array(0);

  constructor(
    private readonly word: (text: string) => void,
    private readonly data: (bytes: Uint8Array<ArrayBuffer>) => void,
  ) {}

  take(message: ArrayBuffer): void {
    let bytes = new Uint8Array(message);
    if (this.#rest.length > 0) {
      const joined = new Uint8Array(this.#rest.length + bytes.length);
      joined.set(this.#rest);
      joined.set(bytes, this.#rest.length);
      bytes = joined;
    }
    let at = 0;
    while (bytes.length - at >= 5) {
      const length = new DataView(bytes.buffer, bytes.byteOffset + at + 1, 4).getUint32(0, true);
      if (bytes.length - at < 5 + length) break;
      const record = bytes.slice(at + 5, at + 5 + length);
      if (bytes[at] === 1) this.word(new TextDecoder().decode(record));
      else if (bytes[at] === 2) this.data(record);
      else throw new Error("The host sent no answer about files.");
      at += 5 + length;
    }
    this.#rest = bytes.slice(at);
  }
}
