import { Button, FileButton } from "@mantine/core";
import { useRef } from "react";
import { WhyNot } from "../access/WhyNot";
import type { HostSummary } from "../api/types";
import { chosenOf, type Dropped } from "./dropped";
import type { FileName } from "./hostFiles";

/** What is done with the folder that is looked at. */
export function FileBar({
  path,
  may,
  host,
  ready,
  onFolder,
  onSend,
  onTrash,
}: {
  path: FileName;
  may: boolean;
  host: HostSummary;
  ready: boolean;
  onFolder: () => void;
  onSend: (dropped: Dropped[]) => void;
  onTrash: () => void;
}) {
  const reset = useRef<() => void>(null);
  const folders = useRef<HTMLInputElement>(null);
  if (!may)
    return (
      <div className="file-bar">
        <WhyNot permission="write-files" at={{ host: host.id }} />
      </div>
    );
  return (
    <div className="file-bar">
      <FileButton
        multiple
        resetRef={reset}
        onChange={(files) => {
          if (files.length > 0) onSend(files.map((file) => ({ path: [file.name], file })));
          reset.current?.();
        }}
      >
        {(props) => (
          <Button {...props} size="compact-sm" variant="default" disabled={!ready}>
            Send files …
          </Button>
        )}
      </FileButton>
      <input
        ref={folders}
        type="file"
        hidden
        aria-hidden="true"
        tabIndex={-1}
        // A folder with all below it; React does not know the attribute by its type.
        {...{ webkitdirectory: "" }}
        onChange={(e) => {
          if (e.currentTarget.files?.length) onSend(chosenOf(e.currentTarget.files));
          e.currentTarget.value = "";
        }}
      />
      <Button size="compact-sm" variant="default" disabled={!ready} onClick={() => folders.current?.click()}>
        Send a folder …
      </Button>
      <Button size="compact-sm" variant="default" disabled={!ready} onClick={onFolder}>
        New folder …
      </Button>
      <Button size="compact-sm" variant="default" disabled={!ready} onClick={onTrash}>
        Trash
      </Button>
      <span className="muted">{ready ? `Or drop files and folders below, to send them to ${path.text}.` : ""}</span>
    </div>
  );
}
