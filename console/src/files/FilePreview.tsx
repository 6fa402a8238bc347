import { Button } from "@mantine/core";
import { useEffect, useState } from "react";
import { bytes } from "../parts/time";
import { FileEditor } from "./FileEditor";
import { imageType, textOf } from "./files";
import type { FileEntry, FileName, HostFiles } from "./hostFiles";
import { encodingWords, type FoundText, readText } from "./text";
import type { FileChanges } from "./useFileChanges";

const MOST_TEXT = 256 * 1024;
const MOST_PICTURE = 4 << 20;

type Seen =
  | { text: string; whole: FoundText | undefined; version: string | undefined }
  | { picture: string }
  | { nothing: string };

/** What is in a file: the beginning of a text, or a picture. */
export function FilePreview({
  files,
  path,
  entry,
  changes,
  onFetch,
  onSaved,
  onClose,
}: {
  files: HostFiles;
  path: FileName;
  entry: FileEntry;
  changes: FileChanges;
  onFetch: () => void;
  onSaved: (said: string) => void;
  onClose: () => void;
}) {
  const [seen, setSeen] = useState<Seen>();
  const [edits, setEdits] = useState(false);
  const [round, setRound] = useState(0);
  useEffect(() => {
    let current = true;
    const picture = imageType(entry.name.text);
    const most = picture ? MOST_PICTURE : MOST_TEXT;
    const parts: Uint8Array<ArrayBuffer>[] = [];
    let size = entry.bytes;
    let version = entry.version;
    files
      .read(
        path,
        { most },
        (word) => {
          size = word.entry?.bytes ?? size;
          version = word.entry?.version ?? version;
        },
        (part) => parts.push(part),
      )
      .then(async () => {
        const content = new Blob(parts);
        const found = await toSeen(content, Math.max(size, content.size), picture, version);
        if (current) setSeen(found);
      })
      .catch((e: unknown) => current && setSeen({ nothing: e instanceof Error ? e.message : String(e) }));
    return () => {
      current = false;
    };
  }, [files, path.text, path.bytes, entry.name.text, entry.bytes, entry.version, round]); // eslint-disable-line react-hooks/exhaustive-deps -- the path is what it says
  return (
    <section className="file-preview" aria-label={`What is in ${path.text}`}>
      <header>
        <strong className="mono">{path.text}</strong>
        <span className="file-preview-acts">
          {seen && "text" in seen && seen.whole && !edits && changes.may && (
            <Button size="compact-sm" variant="default" onClick={() => setEdits(true)}>
              Edit
            </Button>
          )}
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
      ) : "text" in seen && seen.whole && edits ? (
        <FileEditor
          path={path}
          found={seen.whole}
          version={seen.version}
          changes={changes}
          onSaved={(said) => {
            setEdits(false);
            setRound(round + 1);
            onSaved(said);
          }}
          onLeave={() => setEdits(false)}
        />
      ) : "text" in seen ? (
        <>
          <pre className="output" tabIndex={0}>
            {seen.text}
          </pre>
          {seen.whole && seen.whole.encoding !== "utf-8" && (
            <p className="muted">{encodingWords[seen.whole.encoding]}</p>
          )}
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

async function toSeen(
  content: Blob,
  size: number,
  picture: string | undefined,
  version: string | undefined,
): Promise<Seen> {
  if (picture)
    return size > MOST_PICTURE
      ? { nothing: `A picture of ${bytes(size)}; up to ${bytes(MOST_PICTURE)} is shown here. Fetch it to see it.` }
      : { picture: await dataUrl(new Blob([content], { type: picture })) };
  const all = new Uint8Array(await content.arrayBuffer());
  const whole = content.size >= size ? readText(all) : undefined;
  const text = content.size >= size ? whole?.text : textOf(all, false);
  return text === undefined
    ? { nothing: `It is no text (${bytes(size)}). Fetch it to open it with what knows it.` }
    : { text, whole, version };
}

const dataUrl = (content: Blob) =>
  new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(reader.result as string);
    reader.onerror = () => reject(new Error("The picture can't be shown."));
    reader.readAsDataURL(content);
  });
