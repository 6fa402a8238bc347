import { Checkbox, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { Dialog, type DialogProps } from "./FileDialogs";
import { folderOf, inFolder, isArchive } from "./files";
import type { FileName, FileWord } from "./hostFiles";
import { existingWays } from "./places";

/** Most problems that are said one by one. */
const MOST = 3;

/** Counts what is done of a change of many, and keeps what was in its way. */
function useMany() {
  const [count, setCount] = useState<number>();
  const problems: string[] = [];
  const hear = (word: FileWord) => {
    if (word.problem) problems.push(word.problem);
    if (word.count) setCount(word.count);
  };
  const check = () => {
    if (problems.length === 0) return;
    const more = problems.length > MOST ? ` And ${problems.length - MOST} more.` : "";
    throw new Error(`${problems.slice(0, MOST).join(" ")}${more}`);
  };
  return { count, hear, check };
}

const things = (count: number | undefined) => (count === 1 ? "1 file or folder" : `${count ?? 0} files and folders`);

export function PackDialog({ host, change, onDone, onClose, path }: DialogProps & { path: FileName }) {
  const [to, setTo] = useState(`${path.text}.zip`);
  const many = useMany();
  const wrong = !to.startsWith("/")
    ? "Write the whole path, from the root."
    : isArchive(to.trim())
      ? undefined
      : "An archive ends with .zip, .tar, .tar.gz or .tgz.";
  return (
    <Dialog
      title={`Pack ${path.text}`}
      button={`Pack it on ${host.label}`}
      disabled={wrong !== undefined}
      why={wrong}
      act={async () => {
        const word = await change({ pack: { paths: [path], to: { text: to.trim() } } }, many.hear);
        many.check();
        return `${things(word.count)} packed into ${to.trim()}.`;
      }}
      onDone={onDone}
      onClose={onClose}
    >
      <TextInput
        label="The new archive"
        description="Its ending says what it is: .zip, .tar, .tar.gz or .tgz"
        classNames={{ input: "mono" }}
        data-autofocus
        value={to}
        onChange={(e) => setTo(e.currentTarget.value)}
        spellCheck={false}
      />
      {many.count !== undefined && (
        <p className="muted" style={{ margin: 0 }} role="status">
          {things(many.count)} so far.
        </p>
      )}
    </Dialog>
  );
}

export function UnpackDialog({ host, change, onDone, onClose, path }: DialogProps & { path: FileName }) {
  const name = path.text.slice(path.text.lastIndexOf("/") + 1).replace(/\.(zip|tar|tgz|tar\.gz)$/i, "");
  const [to, setTo] = useState(inFolder(folderOf(path), { text: name }).text);
  const [existing, setExisting] = useState("keep");
  const [large, setLarge] = useState(false);
  const many = useMany();
  const wrong = to.startsWith("/") ? undefined : "Write the whole path, from the root.";
  return (
    <Dialog
      title={`Unpack ${path.text}`}
      button={`Unpack it on ${host.label}`}
      disabled={wrong !== undefined}
      why={wrong}
      act={async () => {
        const word = await change(
          { unpack: { archive: path, to: { text: to.trim() }, existing: existing as "keep", large } },
          many.hear,
        );
        many.check();
        return `${things(word.count)} unpacked into ${to.trim()}.`;
      }}
      onDone={onDone}
      onClose={onClose}
    >
      <TextInput
        label="Into which folder"
        description="It is made where it is not there; nothing in the archive leads out of it"
        classNames={{ input: "mono" }}
        data-autofocus
        value={to}
        onChange={(e) => setTo(e.currentTarget.value)}
        spellCheck={false}
      />
      <Select
        label="A file that is there already and is another"
        data={existingWays.filter((w) => w.value !== "ask")}
        value={existing}
        onChange={(way) => setExisting(way ?? "keep")}
        allowDeselect={false}
      />
      <Checkbox
        label="It grows to many times its length, and is meant to"
        checked={large}
        onChange={(e) => setLarge(e.currentTarget.checked)}
      />
      {many.count !== undefined && (
        <p className="muted" style={{ margin: 0 }} role="status">
          {things(many.count)} so far.
        </p>
      )}
    </Dialog>
  );
}
