import { Button, Modal, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import { api, ask } from "../api/client";
import type { RevealedSecret, SecretInfo } from "../api/types";
import { CopyLine } from "../parts/CopyLine";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { called, kindWords } from "./secretWords";
import { useSecret, useSecretAct } from "./useVault";

/** How long a text stays on the screen. */
const shownForSeconds = 60;

/** Shows a secret's text, once, to whoever says why; and its history. */
export function RevealSecret({
  secret,
  mayReveal,
  onClose,
}: {
  secret: SecretInfo;
  mayReveal: boolean;
  onClose: () => void;
}) {
  const [reason, setReason] = useState("");
  const [number, setNumber] = useState(secret.number);
  const [shown, setShown] = useState<RevealedSecret>();
  const detail = useSecret(secret.id);
  const reveal = useSecretAct(
    () =>
      ask(
        api.POST("/api/v1/secrets/{id}/reveal", { params: { path: { id: secret.id } }, body: { reason, number } }),
      ) as Promise<RevealedSecret>,
    setShown,
  );
  useEffect(() => {
    if (!shown) return;
    const timer = setTimeout(onClose, shownForSeconds * 1000);
    return () => clearTimeout(timer);
  }, [shown, onClose]);
  return (
    <Modal
      opened
      onClose={onClose}
      title={`${kindWords(secret.kind)}${secret.name && ` “${secret.name}”`} of ${secret.place}`}
      size="lg"
    >
      {shown ? (
        <div className="stack">
          {shown.userName && <CopyLine label="User" text={shown.userName} />}
          <CopyLine label={secret.kind === "access-key" ? "Access key" : "Password"} text={shown.secret} />
          <p className="muted" style={{ margin: 0 }}>
            It goes from the screen after a minute, and is shown once. That you saw it, and why, stands in the audit
            log.
          </p>
        </div>
      ) : (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            reveal.mutate();
          }}
        >
          <Trouble error={detail.error} />
          <ul className="history" aria-label="History">
            {detail.data?.versions.map((v) => (
              <li key={v.number}>
                <label>
                  <input
                    type="radio"
                    name="number"
                    checked={v.number === number}
                    onChange={() => setNumber(v.number)}
                    disabled={!mayReveal}
                  />{" "}
                  <b>
                    {v.counts ? "the one that counts" : v.isProposed ? "on its way to the host" : `number ${v.number}`}
                  </b>{" "}
                  <span className="muted">
                    since <Ago time={v.createdAt} />, by {v.createdBy}
                  </span>
                </label>
              </li>
            ))}
          </ul>
          {mayReveal ? (
            <>
              <TextInput
                label="Why it has to be seen"
                description="It stands in the audit log, with your name."
                value={reason}
                onChange={(e) => setReason(e.currentTarget.value)}
                data-autofocus
                maxLength={500}
              />
              <Trouble error={reveal.error} />
              <Button type="submit" variant="filled" loading={reveal.isPending}>
                {`Show ${called(secret)} of ${secret.place}`}
              </Button>
            </>
          ) : (
            <p className="muted" style={{ margin: 0 }}>
              You may use it, and not see it: your role lacks “reveal-secrets” there.
            </p>
          )}
        </form>
      )}
    </Modal>
  );
}
