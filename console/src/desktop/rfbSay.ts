/** What a viewer says over RFB 3.8 (RFC 6143, 7.5, and the extensions beside it). */

const utf8 = new TextEncoder();

export const encoding = {
  raw: 0,
  copyRect: 1,
  tight: 7,
  zrle: 16,
  desktopSize: -223,
  pointer: -232,
  cursor: -239,
  extendedKeys: -258,
  extendedDesktopSize: -308,
  fence: -312,
  continuous: -313,
  clipboard: 0xc0a1e5ce | 0,
  /** The best of ten qualities of JPEG. */
  bestQuality: -23,
} as const;

export const clipboardAct = {
  caps: 1 << 24,
  request: 1 << 25,
  peek: 1 << 26,
  notify: 1 << 27,
  provide: 1 << 28,
} as const;

function message(length: number, kind: number, fill: (to: DataView) => void): Uint8Array<ArrayBuffer> {
  const bytes = new Uint8Array(length);
  bytes[0] = kind;
  fill(new DataView(bytes.buffer));
  return bytes;
}

export const text = (words: string) => utf8.encode(words) as Uint8Array<ArrayBuffer>;

/** Pixels of four bytes: blue, green, red and nothing. */
export const setFormat = () =>
  message(20, 0, (to) => {
    to.setUint8(4, 32);
    to.setUint8(5, 24);
    to.setUint8(7, 1);
    for (const at of [8, 10, 12]) to.setUint16(at, 255);
    to.setUint8(14, 16);
    to.setUint8(15, 8);
  });

export const setEncodings = (wanted: readonly number[]) =>
  message(4 + 4 * wanted.length, 2, (to) => {
    to.setUint16(2, wanted.length);
    wanted.forEach((one, i) => to.setInt32(4 + 4 * i, one));
  });

export const requestUpdate = (incremental: boolean, width: number, height: number) =>
  message(10, 3, (to) => {
    to.setUint8(1, incremental ? 1 : 0);
    to.setUint16(6, width);
    to.setUint16(8, height);
  });

export const continuousUpdates = (width: number, height: number) =>
  message(10, 150, (to) => {
    to.setUint8(1, 1);
    to.setUint16(6, width);
    to.setUint16(8, height);
  });

export const key = (down: boolean, sym: number) =>
  message(8, 4, (to) => {
    to.setUint8(1, down ? 1 : 0);
    to.setUint32(4, sym);
  });

/** A key by its place on the keyboard, in the numbers of an XT one. */
export const placeKey = (down: boolean, sym: number, place: number) =>
  message(12, 255, (to) => {
    to.setUint16(2, down ? 1 : 0);
    to.setUint32(4, sym);
    to.setUint32(8, place);
  });

export const mouse = (x: number, y: number, buttons: number) =>
  message(6, 5, (to) => {
    to.setUint8(1, buttons);
    to.setUint16(2, x);
    to.setUint16(4, y);
  });

export const fence = (flags: number, payload: Uint8Array) =>
  message(9 + payload.length, 248, (to) => {
    to.setUint32(4, flags);
    to.setUint8(8, payload.length);
    new Uint8Array(to.buffer).set(payload, 9);
  });

export const resize = (width: number, height: number) =>
  message(24, 251, (to) => {
    to.setUint16(2, width);
    to.setUint16(4, height);
    to.setUint8(6, 1);
    to.setUint32(8, 1);
    to.setUint16(16, width);
    to.setUint16(18, height);
  });

/** A message about clipboards, of which text is what is spoken about. @param packed with *provide*: the text, packed. */
export const clipboard = (act: number, packed: Uint8Array = new Uint8Array()) =>
  message(12 + packed.length, 6, (to) => {
    to.setInt32(4, -(4 + packed.length));
    to.setUint32(8, (act | 1) >>> 0);
    new Uint8Array(to.buffer).set(packed, 12);
  });
