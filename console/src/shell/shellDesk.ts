import { useSyncExternalStore } from "react";
import type { HostSummary } from "../api/types";
import type { HostDoor } from "../sessions/hostDoor";
import { HostShellDoor } from "./hostShell";
import { OpenShell } from "./openShell";

/** The shells that this window has open: they stay while pages change. */
class ShellDesk {
  #shells: readonly OpenShell[] = [];
  #listeners = new Set<() => void>();
  #version = 0;

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  readonly version = () => this.#version;

  get shells(): readonly OpenShell[] {
    return this.#shells;
  }

  open(
    host: HostSummary,
    options: { user?: string; proven?: HostDoor; usesVault?: boolean; resumes?: string } = {},
  ): OpenShell {
    const door = new HostShellDoor(host, { ...options, usesVault: options.usesVault ?? false });
    const shell = new OpenShell(
      host,
      door,
      this.#changed,
      (from, keys) => {
        for (const to of from.joined ? this.#shells.filter((s) => s.joined) : [from]) to.type(keys);
      },
      () => document.getElementById(`tab-${shell.key}`)?.focus(),
      options.resumes,
    );
    this.#shells = [...this.#shells, shell];
    this.#changed();
    return shell;
  }

  /** Takes a shell off the desk. */
  close(shell: OpenShell): void {
    this.#shells = this.#shells.filter((s) => s !== shell);
    shell.dispose();
    this.#changed();
  }

  join(shell: OpenShell, joined: boolean): void {
    shell.joined = joined;
    this.#changed();
  }

  readonly #changed = () => {
    this.#version++;
    for (const listener of this.#listeners) listener();
  };
}

export const shellDesk = new ShellDesk();

/** The shells on this window's desk. */
export function useShells(): readonly OpenShell[] {
  useSyncExternalStore(shellDesk.subscribe, shellDesk.version);
  return shellDesk.shells;
}
