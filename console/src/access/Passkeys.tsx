import { Button, PasswordInput, TextInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { PasskeyInfo } from "../api/types";
import { minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { addPasskey, canUsePasskeys } from "./passkeys";
import { useAccessAct } from "./useAccess";

/** Devices that sign one in without a password: each unlocks for its holder, and there is nothing to type or to steal. */
export function Passkeys() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["passkeys"],
    queryFn: async () => (await ask(api.GET("/api/v1/me/passkeys"))).items as PasskeyInfo[],
  });
  const [adding, setAdding] = useState(false);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const again = () => void queries.invalidateQueries({ queryKey: ["passkeys"] });
  const add = useAccessAct(
    () => addPasskey(name, password),
    () => {
      setAdding(false);
      setName("");
      setPassword("");
      again();
    },
  );
  const remove = useAccessAct(
    (id: string) => ask(api.DELETE("/api/v1/me/passkeys/{passkeyId}", { params: { path: { passkeyId: id } } })),
    again,
  );
  return (
    <section className="panel" aria-labelledby="passkeys-title">
      <header>
        <h2 id="passkeys-title">Passkeys</h2>
        {!adding && canUsePasskeys() && (
          <Button size="compact-sm" variant="default" onClick={() => setAdding(true)}>
            Add one
          </Button>
        )}
      </header>
      <Trouble error={found.error ?? remove.error} />
      {found.data?.map((p) => (
        <div key={p.id} className="row passkey-row">
          <span className="host-name">
            <b>{p.name}</b>
            <span>
              since {minute(p.createdAt)}
              {p.isBackedUp && ", kept by your other devices too"}
            </span>
          </span>
          <Button
            size="compact-sm"
            variant="subtle"
            color="gray"
            aria-label={`Remove the passkey ${p.name}`}
            onClick={() => remove.mutate(p.id)}
          >
            Remove
          </Button>
        </div>
      ))}
      {adding ? (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate(undefined);
          }}
        >
          <TextInput
            label="What to call it"
            placeholder="phone"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            required
            autoFocus
          />
          <PasswordInput
            label="Your password, again"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
            autoComplete="current-password"
            required
          />
          <Trouble error={add.error} />
          <div className="acts" style={{ justifyContent: "flex-start" }}>
            <Button type="submit" variant="filled" loading={add.isPending}>
              Make the passkey
            </Button>
            <Button variant="subtle" color="gray" onClick={() => setAdding(false)}>
              Leave it
            </Button>
          </div>
        </form>
      ) : (
        <p className="muted" style={{ margin: 0 }}>
          {canUsePasskeys()
            ? "A phone, a computer or a small key signs you in without a password, and is both factors at once."
            : "This browser knows no passkeys, or the page came over plain http."}
        </p>
      )}
    </section>
  );
}
