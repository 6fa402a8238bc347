import { Button, Checkbox, Modal, PasswordInput, SegmentedControl } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { HostSummary, KeyRotationDetail } from "../api/types";
import { quoted } from "../estate/hostList";
import { Trouble } from "../parts/Trouble";
import { changeKey } from "../sessions/hostDoor";
import { useRotation, useSecretAct } from "./useVault";

/** Another access key for one host: made by the service for the vault, or chosen and known to nobody but who chose it. */
export function ChangeKey({
  host,
  hasKey,
  inVault,
  onClose,
}: {
  host: HostSummary;
  hasKey: boolean;
  inVault: boolean;
  onClose: () => void;
}) {
  const [way, setWay] = useState<"vault" | "own">("vault");
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const [endSessions, setEndSessions] = useState(true);
  const [rotation, setRotation] = useState<string>();
  const rotate = useSecretAct(
    () =>
      ask(
        api.POST("/api/v1/key-rotations", {
          body: { selection: `${quoted(host.label)} and in ${quoted(host.groupPath)}`, endSessions },
        }),
      ) as Promise<KeyRotationDetail>,
    (made) => setRotation(made.info.id),
  );
  const choose = useSecretAct(async () => {
    if (fresh !== again) throw new Error("The two differ; type the new key again.");
    await changeKey(host.id, old, fresh, endSessions);
  }, onClose);
  return (
    <Modal opened onClose={onClose} title={`${hasKey ? "Another" : "The first"} access key of ${host.label}`} size="lg">
      {rotation ? (
        <Outcome id={rotation} host={host} onClose={onClose} />
      ) : (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            if (way === "vault") rotate.mutate();
            else choose.mutate();
          }}
        >
          <SegmentedControl
            aria-label="Who makes the key"
            value={way}
            onChange={(v) => setWay(v as "vault" | "own")}
            data={[
              { value: "vault", label: "Made for the vault" },
              { value: "own", label: "Chosen by me" },
            ]}
          />
          {way === "vault" ? (
            <p style={{ margin: 0 }}>
              {hasKey && !inVault
                ? `The vault has not the key that ${host.label} has, so it can't prove it. Keep that one in the vault first, or choose a key yourself.`
                : "The service makes a key by chance, sets it on the host and keeps it in the vault. Nobody has to see it."}
            </p>
          ) : (
            <>
              {hasKey && (
                <PasswordInput
                  label="The key as it is now"
                  classNames={{ innerInput: "mono" }}
                  value={old}
                  onChange={(e) => setOld(e.currentTarget.value)}
                  autoComplete="off"
                />
              )}
              <PasswordInput
                label="The new key"
                description="At least 12 characters. It is sent to the host alone, and in a form from which it can't be read; the service does not see it."
                classNames={{ innerInput: "mono" }}
                value={fresh}
                onChange={(e) => setFresh(e.currentTarget.value)}
                autoComplete="new-password"
              />
              <PasswordInput
                label="The same again"
                classNames={{ innerInput: "mono" }}
                value={again}
                onChange={(e) => setAgain(e.currentTarget.value)}
                autoComplete="new-password"
              />
            </>
          )}
          <Checkbox
            label="End sessions in which the key before was proven"
            checked={endSessions}
            onChange={(e) => setEndSessions(e.currentTarget.checked)}
          />
          <Trouble error={way === "vault" ? rotate.error : choose.error} />
          <Button type="submit" variant="filled" loading={rotate.isPending || choose.isPending}>
            {`Set ${hasKey ? "another" : "the first"} key on ${host.label}`}
          </Button>
        </form>
      )}
    </Modal>
  );
}

function Outcome({ id, host, onClose }: { id: string; host: HostSummary; onClose: () => void }) {
  const rotation = useRotation(id);
  const state = rotation.data?.hosts[0];
  return (
    <div className="stack">
      <Trouble error={rotation.error} />
      <p style={{ margin: 0 }} role="status">
        {state?.state === "changed"
          ? `${host.label} has another access key. The vault keeps it.`
          : state?.state === "failed"
            ? `${host.label} keeps its key: ${state.reason}`
            : host.presence.state === "linked"
              ? `Setting it on ${host.label} …`
              : `${host.label} is away; it gets its key when it returns.`}
      </p>
      <Button variant="default" onClick={onClose}>
        Close
      </Button>
    </div>
  );
}
