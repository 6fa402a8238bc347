import { Button, Modal, Select, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { KeyRotationDetail, KeyRotationInfo, VaultState } from "../api/types";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { groupChoices, useGroups } from "../estate/useGroups";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { KeepSecret } from "./KeepSecret";
import { PageNeeds } from "./PageNeeds";
import { PeopleTabs } from "./PeopleTabs";
import { SecretList } from "./SecretList";
import { useMe } from "./useMay";
import { useRotation, useRotations, useSecretAct, useSecrets } from "./useVault";
import { VaultBackup } from "./VaultBackup";

/** All that the vault keeps, as far as one may use or see it; other keys for many hosts; and the vault itself. */
export function VaultPage() {
  return (
    <PageNeeds permission="use-secrets" title="Vault" tabs={<PeopleTabs />}>
      <Vault />
    </PageNeeds>
  );
}

function Vault() {
  const me = useMe();
  const [scope] = useScope();
  const { groups } = useGroups();
  const { secrets, total, error, known } = useSecrets("all");
  const [keepingAt, setKeepingAt] = useState<{ group: string; path: string }>();
  const [typed, setTyped] = useState("");
  const inside = (path: string) => !scope || path === scope || path.startsWith(`${scope}/`);
  const words = typed.trim().toLowerCase();
  const shown = secrets.filter(
    (s) =>
      inside(s.groupPath) &&
      (!words || [s.name, s.userName, s.place, s.groupPath, s.note].some((t) => t?.toLowerCase().includes(words))),
  );
  const mine = groups.filter((g) => g.may.includes("configure") && g.may.includes("use-secrets") && inside(g.path));
  const lead = me?.everywhere.includes("administer") ?? false;
  const rotates = me?.anywhere.includes("administer") ?? false;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Vault</h1>
        <PeopleTabs />
        <span className="acts" style={{ marginLeft: "auto" }}>
          <TextInput
            aria-label="Narrow the list"
            placeholder="Narrow the list …"
            value={typed}
            onChange={(e) => setTyped(e.currentTarget.value)}
          />
          {mine.length > 0 && (
            <Select
              aria-label="Keep a secret of a group"
              placeholder="Keep a secret of a group …"
              style={{ width: 280 }}
              data={groupChoices(mine)}
              value={null}
              searchable
              onChange={(path) => {
                const group = groups.find((g) => g.path === path);
                if (group) setKeepingAt({ group: group.id, path: group.path });
              }}
            />
          )}
        </span>
      </div>
      <p className="muted" style={{ marginTop: 0 }}>
        Access keys of hosts and logons of systems, encrypted. To use one and to see it are two permissions; both stand
        in the audit log.
      </p>
      <Trouble error={error} />
      {known &&
        (shown.length === 0 ? (
          <Empty title={words ? "Nothing here is called so" : "The vault keeps nothing here yet"}>
            Hosts that make their own access key put it here as they join. What belongs to one host is kept on its page,
            what belongs to a group above.
          </Empty>
        ) : (
          <SecretList secrets={shown} />
        ))}
      {total > secrets.length && (
        <p className="muted">
          The newest {secrets.length} of {total} are shown.
        </p>
      )}
      {rotates && <Rotations scope={scope} />}
      {lead && <Itself />}
      {keepingAt && (
        <KeepSecret
          at={{ group: keepingAt.group }}
          place={readable(keepingAt.path)}
          onClose={() => setKeepingAt(undefined)}
        />
      )}
    </main>
  );
}

function Rotations({ scope }: { scope: string }) {
  const rotations = useRotations(true);
  const [selection, setSelection] = useState<string>();
  const [open, setOpen] = useState<string>();
  const wanted = selection ?? (scope ? `in "${scope}"` : "");
  const start = useSecretAct(
    () =>
      ask(
        api.POST("/api/v1/key-rotations", { body: { selection: wanted, endSessions: true } }),
      ) as Promise<KeyRotationDetail>,
    (made) => setOpen(made.info.id),
  );
  const shown = open ?? rotations.data?.[0]?.id;
  return (
    <section aria-labelledby="rotations-title" style={{ marginTop: 28 }}>
      <div className="page-head">
        <h2 id="rotations-title">Other access keys for many hosts</h2>
      </div>
      <form
        className="rotation-form"
        onSubmit={(e) => {
          e.preventDefault();
          start.mutate();
        }}
      >
        <TextInput
          label="Hosts"
          description="A selection. Each gets a key of its own, made by chance; those that are away get theirs when they return. Sessions that are open there end."
          classNames={{ input: "mono" }}
          placeholder='in "Tarn Valley Creamery"'
          value={wanted}
          onChange={(e) => setSelection(e.currentTarget.value)}
          style={{ flex: 1 }}
        />
        <Button type="submit" variant="default" loading={start.isPending}>
          Change their keys
        </Button>
      </form>
      <Trouble error={start.error ?? rotations.error} />
      {rotations.data && rotations.data.length > 0 && (
        <div className="job-split" style={{ marginTop: 14 }}>
          <div className="rows">
            {rotations.data.map((r) => (
              <Rotation key={r.id} rotation={r} open={r.id === shown} onOpen={() => setOpen(r.id)} />
            ))}
          </div>
          {shown && <RotationPanel key={shown} id={shown} />}
        </div>
      )}
    </section>
  );
}

function Rotation({ rotation, open, onOpen }: { rotation: KeyRotationInfo; open: boolean; onOpen: () => void }) {
  return (
    <button type="button" className="row rotation-row" aria-pressed={open} onClick={onOpen}>
      <span className="host-name">
        <b className="mono">{rotation.selection}</b>
        <span>
          {rotation.createdBy}, <Ago time={rotation.createdAt} />
        </span>
      </span>
      <span className={rotation.failed > 0 ? "warning" : ""}>
        {rotation.changed} of {rotation.hosts}
        {rotation.failed > 0 && ` · ${rotation.failed} failed`}
        {rotation.waiting > 0 && ` · ${rotation.waiting} waiting`}
      </span>
    </button>
  );
}

const stateWords = { waiting: "waits", changed: "has another key", failed: "keeps its key", cancelled: "cancelled" };

function RotationPanel({ id }: { id: string }) {
  const rotation = useRotation(id);
  const cancel = useSecretAct(() => ask(api.POST("/api/v1/key-rotations/{id}/cancel", { params: { path: { id } } })));
  if (!rotation.data) return <Trouble error={rotation.error} />;
  const { info, hosts } = rotation.data;
  return (
    <section className="panel" aria-label="Its hosts">
      <header>
        <h3>
          {info.changed} of {info.hosts} have another key
        </h3>
        {!info.isOver && (
          <Button size="compact-sm" variant="default" loading={cancel.isPending} onClick={() => cancel.mutate()}>
            Change no more
          </Button>
        )}
      </header>
      <Trouble error={cancel.error} />
      <ul className="history">
        {hosts.map((h) => (
          <li key={h.hostId}>
            <Link to={`/hosts/${h.hostId}`}>{h.label}</Link>{" "}
            <span className={h.state === "failed" ? "warning" : "muted"}>
              {stateWords[h.state]}
              {h.reason && `: ${h.reason}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The vault as a whole, for whoever runs the service. */
function Itself() {
  const state = useQuery({ queryKey: ["vault"], queryFn: () => ask(api.GET("/api/v1/vault")) as Promise<VaultState> });
  const [asking, setAsking] = useState<"key" | "backup" | "restore">();
  const rotate = useSecretAct(
    () => ask(api.POST("/api/v1/vault/rotate-key")),
    () => setAsking(undefined),
  );
  return (
    <section className="panel" aria-labelledby="vault-itself" style={{ marginTop: 28 }}>
      <header>
        <h2 id="vault-itself">The vault itself</h2>
        <span className="acts">
          <Button size="compact-sm" variant="default" onClick={() => setAsking("key")}>
            Another vault key …
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => setAsking("backup")}>
            Back up …
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => setAsking("restore")}>
            Restore …
          </Button>
        </span>
      </header>
      <Trouble error={state.error} />
      {state.data && (
        <p style={{ margin: 0 }}>
          {state.data.secrets} {state.data.secrets === 1 ? "secret" : "secrets"}, {state.data.texts} texts with their
          histories. Its key was made <Ago time={state.data.keyMadeAt} />.
        </p>
      )}
      {asking === "key" && (
        <Modal opened onClose={() => setAsking(undefined)} title="Another key of the vault">
          <div className="stack">
            <p style={{ margin: 0 }}>
              Everything is encrypted with a new key, and the old one is removed. Nothing else changes; hosts and people
              notice nothing.
            </p>
            <Trouble error={rotate.error} />
            <Button variant="filled" loading={rotate.isPending} onClick={() => rotate.mutate()}>
              Encrypt the vault with another key
            </Button>
          </div>
        </Modal>
      )}
      {(asking === "backup" || asking === "restore") && (
        <VaultBackup way={asking} onClose={() => setAsking(undefined)} />
      )}
    </section>
  );
}
