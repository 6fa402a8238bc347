import { Button } from "@mantine/core";
import { useEffect, useState } from "react";
import { bytes } from "../parts/time";
import { imageType, textOf } from "./files";
import type { FileEntry, FileName, HostFiles } from "./hostFiles";

const MOST_TEXT = 256 * 1024;
const MOST_PICTURE = 4 << 20;

type Seen = { text: string; whole: boolean } | { picture: string } | { nothing: string };

/** What is in a file: the beginning of a text, or a picture. */
export function FilePreview({
  files,
  path,
  entry,
  onFetch,
  onClose,
}: {
  files: HostFiles;
  path: FileName;
  entry: FileEntry;
  onFetch: () => void;
  onClose: () => void;
}) {
  const [seen, setSeen] = useState<Seen>();
  useEffect(() => {
    let current = true;
    const picture = imageType(entry.name.text);
    const most = picture ? MOST_PICTURE : MOST_TEXT;
    const parts: Uint8Array<ArrayBuffer>[] = [];
    let size = entry.bytes;
    files
      .read(
        path,
        { most },
        (word) => (size = word.entry?.bytes ?? size),
        (part) => parts.push(part),
      )
      .then(async () => {
        const content = new Blob(parts);
        const found = await toSeen(content, Math.max(size, content.size), picture);
        if (current) setSeen(found);
      })
      .catch((e: unknown) => current && setSeen({ nothing: e instanceof Error ? e.message : String(e) }));
    return () => {
      current = false;
    };
  }, [files, path.text, path.bytes, entry.name.text, entry.bytes]); // eslint-disable-line react-hooks/exhaustive-deps -- the path is what it says
  return (
    <section className="file-preview" aria-label={`What is in ${path.text}`}>
      <header>
        <strong className="mono">{path.text}</strong>
        <span className="file-preview-acts">
          <Button size="compact-sm" variant="default" onClick={onFetch}>
            Fetch it
          </Button>
          <Button size="compact-sm" variant="subtle" color="gray" onClick={onClose}>
            Close
          </Button>
        </span>
      </header>
      {!seen ? (
        <p className="muted">Reading …</p>
      ) : "text" in seen ? (
        <>
          <pre className="output" tabIndex={0}>
            {seen.text}
          </pre>
          {!seen.whole && (
            <p className="muted">
              The first {bytes(MOST_TEXT)} of {bytes(entry.bytes)}; fetch it to see the rest.
            </p>
          )}
        </>
      ) : "picture" in seen ? (
        <img src={seen.picture} alt={path.text} />
      ) : (
        <p className="muted">{seen.nothing}</p>
      )}
    </section>
  );
}

async function toSeen(content: Blob, size: number, picture: string | undefined): Promise<Seen> {
  if (picture)
    return size > MOST_PICTURE
      ? { nothing: `A picture of ${bytes(size)}; up to ${bytes(MOST_PICTURE)} is shown here. Fetch it to see it.` }
      : { picture: await dataUrl(new Blob([content], { type: picture })) };
  if (size === 0) return { nothing: "It is empty." };
  const whole = content.size >= size;
  const text = textOf(new Uint8Array(await content.arrayBuffer()), whole);
  return text === undefined
    ? { nothing: `It is no text (${bytes(size)}). Fetch it to open it with what knows it.` }
    : { text, whole };
}

const dataUrl = (content: Blob) =>
  new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(reader.result as string);
    reader.onerror = () => reject(new Error("The picture can't be shown."));
    reader.readAsDataURL(content);
  });
