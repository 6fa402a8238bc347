import { Button, PasswordInput, SegmentedControl } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { IconKey } from "@tabler/icons-react";
import { useState } from "react";
import type { HostSummary } from "../api/types";
import { customerOf } from "../estate/emblem";
import { Trouble } from "../parts/Trouble";
import { HostDoor } from "./hostDoor";
import type { SecretName } from "./keyChannel";

/** Where the key of a host is given that asks for one; it is proven to the host, and sent to nobody. */
export function KeyAsked({
  host,
  door,
  onDoor,
  fromVault,
  act = "runs a command",
}: {
  host: HostSummary;
  door: HostDoor | undefined;
  onDoor: (door: HostDoor | undefined) => void;
  /** Whether the vault has the key and the caller may use it. */
  fromVault: boolean;
  /** What it does not do before: "runs a command". */
  act?: string;
}) {
  const [name, setName] = useState<SecretName>("access-key");
  const [secret, setSecret] = useState("");
  const prove = useMutation({
    mutationFn: () => HostDoor.open(host.id, name, secret),
    onSuccess: (opened) => {
      setSecret("");
      onDoor(opened);
    },
  });
  if (door)
    return (
      <p className="key-asked">
        <IconKey size={16} aria-hidden="true" />
        <span>
          The key of {host.label} is proven, and the host has proven that it is the host. It counts until this page is
          left.
        </span>
        <Button size="compact-sm" variant="default" onClick={() => onDoor(undefined)}>
          End the session
        </Button>
      </p>
    );
  const what = name === "access-key" ? "Access key" : "Passcode";
  return (
    <form
      className="key-asked stack"
      onSubmit={(e) => {
        e.preventDefault();
        if (secret) prove.mutate();
      }}
    >
      <p style={{ margin: 0 }}>
        {host.label} asks for its {name === "access-key" ? "access key" : "key"} before it {act}.{" "}
        {fromVault && "The vault has it: go on, and the service proves it. Or give it yourself."}
      </p>
      <SegmentedControl
        size="xs"
        aria-label="Which secret"
        value={name}
        onChange={(v) => setName(v as SecretName)}
        data={[
          { value: "access-key", label: "Access key (permanent)" },
          { value: "passcode", label: "Passcode (for this visit)" },
        ]}
      />
      <div style={{ display: "flex", gap: 8, alignItems: "flex-end" }}>
        <PasswordInput
          style={{ flex: 1 }}
          label={`${what} of ${host.label} of ${customerOf(host.groupPath)}`}
          classNames={{ innerInput: "mono" }}
          autoComplete="off"
          value={secret}
          onChange={(e) => setSecret(e.currentTarget.value)}
        />
        <Button type="submit" variant="default" loading={prove.isPending}>
          Prove it
        </Button>
      </div>
      <Trouble error={prove.error} />
    </form>
  );
}
