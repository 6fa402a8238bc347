import { Button, Checkbox, Modal, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { customerOf } from "../estate/emblem";
import type { HostSummary } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { inFolder, modeOf, octal } from "./files";
import type { FileEntry, FileName } from "./hostFiles";
import type { Change } from "./useFileChanges";

export interface DialogProps {
  host: HostSummary;
  change: Change;
  onDone: (said: string) => void;
  onClose: () => void;
}

/** Asks for one thing and does it: a form in a window, whose button names what it does. */
export function Dialog({
  title,
  button,
  color,
  disabled,
  why,
  act,
  onDone,
  onClose,
  children,
}: {
  title: string;
  button: string;
  color?: string;
  disabled: boolean;
  /** Why the button does nothing yet. */
  why?: string | undefined;
  act: () => Promise<string>;
  onDone: (said: string) => void;
  onClose: () => void;
  children: React.ReactNode;
}) {
  const doing = useMutation({
    mutationFn: act,
    onSuccess: (said) => {
      onDone(said);
      onClose();
    },
  });
  return (
    <Modal opened onClose={onClose} title={title} size="lg">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          if (!disabled) doing.mutate();
        }}
      >
        {children}
        <Trouble error={doing.error} />
        {disabled && why && (
          <p className="muted" style={{ margin: 0 }}>
            {why}
          </p>
        )}
        <Button
          type="submit"
          variant="filled"
          loading={doing.isPending}
          disabled={disabled}
          {...(color ? { color } : {})}
        >
          {button}
        </Button>
      </form>
    </Modal>
  );
}

export function FolderDialog({ host, change, onDone, onClose, folder }: DialogProps & { folder: FileName }) {
  const [name, setName] = useState("");
  const wrong = nameProblem(name);
  return (
    <Dialog
      title={`New folder in ${folder.text}`}
      button={`Make it on ${host.label}`}
      disabled={wrong !== undefined}
      why={wrong}
      act={async () => {
        await change({ folder: inFolder(folder, { text: name }) });
        return `${name} is there.`;
      }}
      onDone={onDone}
      onClose={onClose}
    >
      <TextInput
        label="Name"
        classNames={{ input: "mono" }}
        data-autofocus
        value={name}
        onChange={(e) => setName(e.currentTarget.value)}
        spellCheck={false}
      />
    </Dialog>
  );
}

export function MoveDialog({ host, change, onDone, onClose, path }: DialogProps & { path: FileName }) {
  const [to, setTo] = useState(path.text);
  const same = to.trim() === path.text;
  const wrong = !to.startsWith("/")
    ? "Write the whole path, from the root."
    : same
      ? "That is what it is called now."
      : undefined;
  return (
    <Dialog
      title={`Rename or move ${path.text}`}
      button={`Move it on ${host.label}`}
      disabled={wrong !== undefined}
      why={wrong}
      act={async () => {
        await change({ move: { from: path, to: { text: to.trim() } } });
        return `${path.text} is ${to.trim()} now.`;
      }}
      onDone={onDone}
      onClose={onClose}
    >
      <TextInput
        label="Its new whole path"
        description="Nothing is overwritten by it"
        classNames={{ input: "mono" }}
        data-autofocus
        value={to}
        onChange={(e) => setTo(e.currentTarget.value)}
        spellCheck={false}
      />
    </Dialog>
  );
}

export function SettingDialog({
  host,
  change,
  onDone,
  onClose,
  path,
  entry,
}: DialogProps & { path: FileName; entry: FileEntry }) {
  const [mode, setMode] = useState(octal(entry.mode));
  const [owner, setOwner] = useState(entry.owner);
  const [group, setGroup] = useState(entry.group);
  const [deep, setDeep] = useState(false);
  const number = modeOf(mode);
  const set = {
    ...(deep || number !== (entry.mode & 0o777) ? { mode: number } : {}),
    ...(deep || owner !== entry.owner ? { owner } : {}),
    ...(deep || group !== entry.group ? { group } : {}),
  };
  const wrong =
    number === undefined
      ? "A mode is three digits for owner, group and others, each 4 to read, 2 to write and 1 to execute: 0640."
      : Object.keys(set).length === 0
        ? "That is as it is now."
        : undefined;
  return (
    <Dialog
      title={`Mode and owner of ${path.text}`}
      button={`Set them on ${host.label}`}
      disabled={wrong !== undefined}
      why={wrong}
      act={async () => {
        const problems: string[] = [];
        const word = await change(
          { set: { path, ...set, deep } as never },
          (w) => w.problem && problems.push(w.problem),
        );
        if (problems.length > 0)
          throw new Error(
            `${problems.slice(0, 3).join(" ")}${problems.length > 3 ? ` And ${problems.length - 3} more.` : ""}`,
          );
        return word.count === 1 ? `${path.text} is set.` : `${word.count ?? 0} files and folders are set.`;
      }}
      onDone={onDone}
      onClose={onClose}
    >
      <TextInput
        label="Mode"
        description="Owner, group and others: 4 to read, 2 to write, 1 to execute"
        classNames={{ input: "mono" }}
        value={mode}
        onChange={(e) => setMode(e.currentTarget.value)}
      />
      <TextInput
        label="Owner"
        classNames={{ input: "mono" }}
        value={owner}
        onChange={(e) => setOwner(e.currentTarget.value)}
      />
      <TextInput
        label="Group"
        classNames={{ input: "mono" }}
        value={group}
        onChange={(e) => setGroup(e.currentTarget.value)}
      />
      {entry.kind === "folder" && (
        <Checkbox
          label="Of everything below it too"
          description="Of files there, execution is given to those that somebody may execute already"
          checked={deep}
          onChange={(e) => setDeep(e.currentTarget.checked)}
        />
      )}
    </Dialog>
  );
}

export function EraseDialog({
  host,
  change,
  onDone,
  onClose,
  path,
  entry,
}: DialogProps & { path: FileName; entry: FileEntry }) {
  const [count, setCount] = useState<number>();
  return (
    <Dialog
      title={`Delete ${path.text} for good`}
      button={`Delete it from ${host.label} of ${customerOf(host.groupPath)} for good`}
      color="red"
      disabled={false}
      act={async () => {
        const problems: string[] = [];
        const word = await change({ erase: path }, (w) => {
          if (w.problem) problems.push(w.problem);
          if (w.count) setCount(w.count);
        });
        if (problems.length > 0)
          throw new Error(
            `${problems.slice(0, 3).join(" ")}${problems.length > 3 ? ` And ${problems.length - 3} more.` : ""}`,
          );
        return word.count === 1
          ? `${path.text} is gone.`
          : `${path.text} is gone, ${word.count ?? 0} files and folders in all.`;
      }}
      onDone={onDone}
      onClose={onClose}
    >
      <p style={{ margin: 0 }}>
        {entry.kind === "folder" ? "It goes with everything below it. " : ""}It can’t be brought back. To the trash, it
        could.
        {count ? ` ${count} so far.` : ""}
      </p>
    </Dialog>
  );
}

function nameProblem(name: string): string | undefined {
  if (name === "") return "It needs a name.";
  if (name.includes("/")) return "A name has no slash in it; go into a folder first.";
  if (name === "." || name === "..") return "Dots alone are no name.";
  return new TextEncoder().encode(name).length > 255 ? "A name has at most 255 bytes." : undefined;
}
