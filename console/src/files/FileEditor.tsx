import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Trouble } from "../parts/Trouble";
import type { FileName } from "./hostFiles";
import { encodingWords, endWords, type FoundText, withEndsOf, writeText } from "./text";
import type { FileChanges } from "./useFileChanges";

/** A text of a host, edited in place: encoding and line ends stay, and it is put back only if nobody changed it meanwhile. */
export function FileEditor({
  path,
  found,
  version,
  changes,
  onSaved,
  onLeave,
}: {
  path: FileName;
  found: FoundText;
  version: string | undefined;
  changes: FileChanges;
  onSaved: (said: string) => void;
  onLeave: () => void;
}) {
  // A text area has line feeds alone.
  const [began] = useState(() => found.text.replace(/\r\n?/g, "\n"));
  const [text, setText] = useState(began);
  const changed = text !== began;
  const save = useMutation({
    mutationFn: () =>
      changes.put(
        { path, replaces: true, expects: version, keepsOld: true },
        writeText({ text: withEndsOf(found.text, text), encoding: found.encoding }),
      ),
    onSuccess: () => onSaved(`${path.text} is as you left it; what it was before lies in the trash.`),
  });
  // Whoever leaves the page is asked before what was typed is lost.
  useEffect(() => {
    if (!changed) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [changed]);
  return (
    <form
      className="file-editor"
      onSubmit={(e) => {
        e.preventDefault();
        if (changed && changes.ready) save.mutate();
      }}
    >
      <textarea
        className="mono"
        aria-label={`Text of ${path.text}`}
        value={text}
        spellCheck={false}
        autoFocus
        onChange={(e) => setText(e.currentTarget.value)}
      />
      <p className="muted">
        {encodingWords[found.encoding]}, {endWords(found.text)}.{!changed && " Nothing is changed yet."}
      </p>
      <Trouble error={save.error} />
      {!changes.ready && <p className="muted">The host asks for its key before it changes files; give it above.</p>}
      <span className="file-preview-acts">
        <Button
          type="submit"
          variant="filled"
          size="compact-md"
          loading={save.isPending}
          disabled={!changed || !changes.ready}
        >
          {`Save ${path.text.slice(path.text.lastIndexOf("/") + 1)}`}
        </Button>
        <Button variant="default" size="compact-md" onClick={onLeave}>
          {changed ? "Leave it as it was" : "Edit no more"}
        </Button>
      </span>
    </form>
  );
}
