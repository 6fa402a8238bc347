import { Button, FileInput, Modal, PasswordInput } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { VaultBackupFile, VaultRestored } from "../api/types";
import { save } from "../parts/file";
import { Trouble } from "../parts/Trouble";
import { useSecretAct } from "./useVault";

/** Everything in the vault as an encrypted file, and back. */
export function VaultBackup({ way, onClose }: { way: "backup" | "restore"; onClose: () => void }) {
  const [passphrase, setPassphrase] = useState("");
  const [again, setAgain] = useState("");
  const [file, setFile] = useState<File | null>(null);
  const [restored, setRestored] = useState<VaultRestored>();
  const backUp = useSecretAct(async () => {
    if (passphrase !== again) throw new Error("The two passphrases differ; type it again.");
    const backup = await ask(api.POST("/api/v1/vault/backup", { body: { passphrase } }));
    save(`vault-${new Date().toISOString().slice(0, 10)}.json`, "application/json", JSON.stringify(backup));
  }, onClose);
  const restore = useSecretAct(async () => {
    if (!file) throw new Error("Choose the file of the backup first.");
    let backup: VaultBackupFile;
    try {
      backup = JSON.parse(await file.text()) as VaultBackupFile;
    } catch {
      throw new Error(`${file.name} is no backup of a vault. Nothing was restored.`);
    }
    return (await ask(api.POST("/api/v1/vault/restore", { body: { passphrase, backup } }))) as VaultRestored;
  }, setRestored);
  return (
    <Modal opened onClose={onClose} title={way === "backup" ? "Back up the vault" : "Restore a backup of the vault"}>
      {restored ? (
        <div className="stack">
          <p style={{ margin: 0 }} role="status">
            Restored {restored.restored}; {restored.kept} that are there stayed as they are.
          </p>
          {restored.leftOut.length > 0 && <p style={{ margin: 0 }}>No place here for: {restored.leftOut.join("; ")}</p>}
          <Button variant="default" onClick={onClose}>
            Close
          </Button>
        </div>
      ) : (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            if (way === "backup") backUp.mutate();
            else restore.mutate();
          }}
        >
          <p style={{ margin: 0 }}>
            {way === "backup"
              ? "The file holds all secrets with their histories, encrypted under a passphrase. Keep that elsewhere: without it the file is worth nothing."
              : "What is missing is put back; what is there stays as it is."}
          </p>
          {way === "restore" && (
            <FileInput label="File" placeholder="vault-….json" value={file} onChange={setFile} clearable />
          )}
          <PasswordInput
            label="Passphrase"
            description={way === "backup" ? "At least 16 characters; several words do well." : undefined}
            value={passphrase}
            onChange={(e) => setPassphrase(e.currentTarget.value)}
            autoComplete="off"
          />
          {way === "backup" && (
            <PasswordInput
              label="The same again"
              value={again}
              onChange={(e) => setAgain(e.currentTarget.value)}
              autoComplete="off"
            />
          )}
          <Trouble error={way === "backup" ? backUp.error : restore.error} />
          <Button type="submit" variant="filled" loading={backUp.isPending || restore.isPending}>
            {way === "backup" ? "Save the backup" : "Restore it"}
          </Button>
        </form>
      )}
    </Modal>
  );
}
