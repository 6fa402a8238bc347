import { Button, Modal, PasswordInput, SegmentedControl, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { SecretInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { called } from "./secretWords";
import { useSecretAct } from "./useVault";

/** Puts a secret into the vault, or gives one that is there another text. */
export function KeepSecret({
  at,
  place,
  secret,
  onClose,
}: {
  at: { host: string } | { group: string };
  place: string;
  /** The one that is changed; nothing makes a new one. */
  secret?: SecretInfo;
  onClose: () => void;
}) {
  const [kind, setKind] = useState<SecretInfo["kind"]>(secret?.kind ?? "logon");
  const [name, setName] = useState(secret?.name ?? "");
  const [userName, setUserName] = useState(secret?.userName ?? "");
  const [note, setNote] = useState(secret?.note ?? "");
  const [text, setText] = useState("");
  const save = useSecretAct(
    () =>
      secret
        ? ask(
            api.PATCH("/api/v1/secrets/{id}", {
              params: { path: { id: secret.id } },
              headers: { "If-Match": `"${secret.version}"` },
              body: { secret: text || null, name: secret.kind === "logon" ? name : null, userName, note },
            }),
          )
        : ask(
            api.POST("/api/v1/secrets", {
              body: {
                kind,
                secret: text,
                hostId: "host" in at ? at.host : null,
                groupId: "group" in at ? at.group : null,
                name: kind === "logon" ? name : null,
                userName: userName || null,
                note: note || null,
              },
            }),
          ),
    onClose,
  );
  const isKey = kind === "access-key";
  return (
    <Modal
      opened
      onClose={onClose}
      title={secret ? `Change ${called(secret)} of ${place}` : `Keep a secret of ${place}`}
      size="lg"
    >
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {!secret && "host" in at && (
          <SegmentedControl
            aria-label="What is kept"
            value={kind}
            onChange={(v) => setKind(v as SecretInfo["kind"])}
            data={[
              { value: "logon", label: "A logon of the system" },
              { value: "access-key", label: "The access key that it has" },
            ]}
          />
        )}
        {!isKey && (
          <>
            <TextInput
              label="What it is called"
              placeholder="local administrator"
              value={name}
              onChange={(e) => setName(e.currentTarget.value)}
            />
            <TextInput
              label="User name"
              classNames={{ input: "mono" }}
              value={userName}
              onChange={(e) => setUserName(e.currentTarget.value)}
              autoComplete="off"
            />
          </>
        )}
        <PasswordInput
          label={isKey ? "Access key" : "Password"}
          description={
            secret
              ? "Left empty, the text stays; another one is added, and the one before is kept in the history."
              : isKey
                ? "The key as the host has it; this does not change the host."
                : "Kept encrypted; whoever may use it need not see it."
          }
          classNames={{ innerInput: "mono" }}
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
          autoComplete="new-password"
        />
        <TextInput label="Note" value={note} onChange={(e) => setNote(e.currentTarget.value)} />
        <Trouble error={save.error} />
        <Button type="submit" variant="filled" loading={save.isPending}>
          {secret ? `Change ${called(secret)} of ${place}` : `Keep it for ${place}`}
        </Button>
      </form>
    </Modal>
  );
}
