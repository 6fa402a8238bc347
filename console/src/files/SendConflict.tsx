import { Button, Modal } from "@mantine/core";

/** What becomes of files that are there already. */
export type ConflictWay = "replace" | "rename" | "leave";

/** Asks what becomes of files that are there already, once for all of them. */
export function SendConflict({
  names,
  folder,
  onWay,
  onClose,
}: {
  names: string[];
  folder: string;
  onWay: (way: ConflictWay) => void;
  onClose: () => void;
}) {
  const one = names.length === 1;
  return (
    <Modal
      opened
      onClose={onClose}
      title={one ? `There is a ${names[0]} already` : `${names.length} files are there already`}
      size="lg"
    >
      <div className="stack">
        <p style={{ margin: 0 }}>
          {one
            ? ""
            : `In ${folder}: ${names.slice(0, 5).join(", ")}${names.length > 5 ? ` and ${names.length - 5} more` : ""}. `}
          What is replaced goes to the trash of the host.
        </p>
        <Button variant="filled" data-autofocus onClick={() => onWay("replace")}>
          {one ? "Replace it" : "Replace them"}
        </Button>
        <Button variant="default" onClick={() => onWay("rename")}>
          {one ? "Send it under another name" : "Send them under other names"}
        </Button>
        <Button variant="default" onClick={() => onWay("leave")}>
          {one ? "Leave it out" : "Leave them out"}
        </Button>
      </div>
    </Modal>
  );
}
