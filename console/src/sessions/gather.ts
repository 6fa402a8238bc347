const PIECE = 8 * 1024 * 1024;

/** Takes in all that comes, in pieces that the browser may lay aside, and tells how much there is so far. */
export async function gather(
  stream: ReadableStream<Uint8Array<ArrayBuffer>>,
  progress: (bytes: number) => void,
): Promise<Blob> {
  const pieces: Blob[] = [];
  let [held, heldBytes, all] = [[] as Uint8Array<ArrayBuffer>[], 0, 0];
  const reader = stream.getReader();
  for (let next = await reader.read(); !next.done; next = await reader.read()) {
    held.push(next.value);
    heldBytes += next.value.length;
    all += next.value.length;
    if (heldBytes >= PIECE) {
      pieces.push(new Blob(held));
      [held, heldBytes] = [[], 0];
      progress(all);
    }
  }
  return new Blob([...pieces, ...held]);
}
