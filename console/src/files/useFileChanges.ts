import { useCallback, useEffect, useRef } from "react";
import type { HostSummary } from "../api/types";
import { type Proof, useProof } from "../sessions/useProof";
import { type FileChange, type FileWord, type FileWrite, HostFiles } from "./hostFiles";
import { sha256 } from "@noble/hashes/sha2.js";
import { MOST_BYTES } from "./records";

export type Change = (change: FileChange, some?: (word: FileWord) => void) => Promise<FileWord>;

/** Changes files of a host, on a line that is opened with the first change. @param proof what the host's key was proven with to read them. */
export function useFileChanges(host: HostSummary, read: Proof) {
  const own = useProof(host, "write-files");
  const door = read.door ?? own.door;
  const usesVault = !door && own.fromVault;
  const line = useRef<HostFiles>(undefined);
  useEffect(
    () => () => {
      line.current?.close();
      line.current = undefined;
    },
    [host.id, door, usesVault],
  );
  const open = useCallback(() => {
    line.current ??= new HostFiles(
      host.id,
      { door, usesVault },
      { notice: () => undefined, over: () => (line.current = undefined) },
      true,
    );
    return line.current;
  }, [host.id, door, usesVault]);
  const change: Change = useCallback((what, some) => open().change(what, some), [open]);
  const trash = useCallback(() => open().trash(), [open]);
  /** Puts a small file in place of another, which goes to the trash. */
  const put = useCallback(
    async (write: Omit<FileWrite, "bytes" | "version">, content: Uint8Array<ArrayBuffer>) => {
      const files = open();
      const hash = btoa(Array.from(sha256(content), (b) => String.fromCharCode(b)).join(""));
      const answered = files.write({ ...write, bytes: content.length, version: hash });
      for (let at = 0; at < content.length; at += MOST_BYTES) files.data(content.subarray(at, at + MOST_BYTES));
      files.end(hash);
      return (await answered).entry;
    },
    [open],
  );
  return {
    may: own.may("write-files"),
    asksKey: own.asksKey,
    fromVault: own.fromVault,
    ready: !own.asksKey || door !== undefined || own.fromVault,
    door,
    setDoor: own.setDoor,
    proof: { door, usesVault } satisfies Proof,
    change,
    trash,
    put,
  };
}

export type FileChanges = ReturnType<typeof useFileChanges>;
