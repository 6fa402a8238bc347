import { Menu } from "@mantine/core";
import { isArchive, isFile, isFolder } from "./files";
import type { FileEntry } from "./hostFiles";

export type RowAct = "move" | "set" | "pack" | "unpack" | "delete" | "erase";

/** What can be done with a file or folder. */
export function FileActs({
  entry,
  may,
  ready,
  onFetch,
  onAct,
}: {
  entry: FileEntry;
  may: boolean;
  /** Whether the host would change something now. */
  ready: boolean;
  onFetch: (entry: FileEntry) => void;
  onAct: (act: RowAct) => void;
}) {
  const name = entry.name.text;
  return (
    <>
      {(isFile(entry) || isFolder(entry)) && (
        <button
          type="button"
          aria-label={`Fetch ${name}`}
          title={isFolder(entry) ? "All of it as a ZIP" : undefined}
          onClick={() => onFetch(entry)}
        >
          Fetch
        </button>
      )}
      {may && (
        <Menu position="bottom-end" shadow="md" withinPortal>
          <Menu.Target>
            <button
              type="button"
              aria-label={`Change ${name}`}
              disabled={!ready}
              title={ready ? undefined : "The host asks for its key before it changes files; give it above"}
            >
              Change
            </button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={() => onAct("move")}>Rename or move …</Menu.Item>
            <Menu.Item onClick={() => onAct("set")}>Mode and owner …</Menu.Item>
            <Menu.Item onClick={() => onAct("pack")}>Pack into an archive …</Menu.Item>
            {isFile(entry) && isArchive(name) && <Menu.Item onClick={() => onAct("unpack")}>Unpack …</Menu.Item>}
            <Menu.Item onClick={() => onAct("delete")}>Delete, to the trash</Menu.Item>
            <Menu.Item onClick={() => onAct("erase")}>Delete for good …</Menu.Item>
          </Menu.Dropdown>
        </Menu>
      )}
    </>
  );
}
