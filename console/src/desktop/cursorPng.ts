import type { Cursor } from "./rfb";

/** A pointer as a picture, in base64; undefined where it shows nothing. */
export async function cursorPng({ width, height, pixels }: Cursor): Promise<string | undefined> {
  if (width === 0 || height === 0) return undefined;
  const canvas = new OffscreenCanvas(width, height);
  canvas.getContext("2d")?.putImageData(new ImageData(new Uint8ClampedArray(pixels.buffer), width, height), 0, 0);
  const bytes = new Uint8Array(await (await canvas.convertToBlob()).arrayBuffer());
  return btoa(String.fromCharCode(...bytes));
}
