import { Button, Checkbox, Modal, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { Permission, RoleInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { PeopleTabs } from "./PeopleTabs";
import { permissions } from "./permissions";
import { useAccessAct, useRoles } from "./useAccess";
import { useMe } from "./useMay";

/** Roles against permissions: those that every service has, and one's own. */
export function RolesPage() {
  const me = useMe();
  const { roles, error } = useRoles();
  const [editing, setEditing] = useState<RoleInfo | "new">();
  const [removing, setRemoving] = useState<RoleInfo>();
  const lead = me?.everywhere.includes("administer") ?? false;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Roles</h1>
        <PeopleTabs />
        {lead && (
          <Button variant="filled" size="sm" style={{ marginLeft: "auto" }} onClick={() => setEditing("new")}>
            New role
          </Button>
        )}
      </div>
      <Trouble error={error} />
      <div className="matrix-frame" tabIndex={0} role="region" aria-label="Roles and permissions">
        <table className="matrix roles">
          <thead>
            <tr>
              <th scope="col">Permission</th>
              {roles.map((r) => (
                <th key={r.id} scope="col">
                  {r.name}
                  <span className="muted">
                    {r.builtIn ? "built in" : (r.note ?? "own")} · {r.grants} {r.grants === 1 ? "grant" : "grants"}
                  </span>
                  {lead && !r.builtIn && (
                    <span className="acts" style={{ justifyContent: "flex-start" }}>
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Edit the role ${r.name}`}
                        onClick={() => setEditing(r)}
                      >
                        Edit
                      </Button>
                      <Button
                        size="compact-xs"
                        variant="subtle"
                        color="gray"
                        aria-label={`Remove the role ${r.name}`}
                        onClick={() => setRemoving(r)}
                      >
                        Remove
                      </Button>
                    </span>
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {permissions.map((p) => (
              <tr key={p.word}>
                <th scope="row">
                  {p.word}
                  <span className="muted">{p.says}</span>
                </th>
                {roles.map((r) => (
                  <td key={r.id}>{r.permissions.includes(p.word) ? "yes" : <span className="muted">–</span>}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {editing && <EditRole role={editing === "new" ? undefined : editing} onClose={() => setEditing(undefined)} />}
      {removing && <RemoveRole role={removing} onClose={() => setRemoving(undefined)} />}
    </main>
  );
}

function EditRole({ role, onClose }: { role: RoleInfo | undefined; onClose: () => void }) {
  const [name, setName] = useState(role?.name ?? "");
  const [note, setNote] = useState(role?.note ?? "");
  const [held, setHeld] = useState<Permission[]>(role?.permissions ?? ["see"]);
  const body = { name, permissions: held, note: note || null };
  const save = useAccessAct(
    () =>
      role
        ? ask(
            api.PUT("/api/v1/roles/{id}", {
              params: { path: { id: role.id } },
              headers: { "If-Match": `"${role.version}"` },
              body,
            }),
          )
        : ask(api.POST("/api/v1/roles", { body })),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={role ? `Change the role ${role.name}` : "New role"} size="lg">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(undefined);
        }}
      >
        <TextInput label="Name" data-autofocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <TextInput label="What it is for" value={note} onChange={(e) => setNote(e.currentTarget.value)} />
        <Checkbox.Group label="Whoever holds it may" value={held} onChange={(v) => setHeld(v as Permission[])}>
          <div className="ticks">
            {permissions.map((p) => (
              <Checkbox
                key={p.word}
                value={p.word}
                label={p.word}
                description={p.word === "see" ? "always: nobody works on what he can’t see" : p.says}
                disabled={p.word === "see"}
              />
            ))}
          </div>
        </Checkbox.Group>
        {role && role.grants > 0 && (
          <p className="muted" style={{ margin: 0 }}>
            {role.grants === 1 ? "One grant gives" : `${role.grants} grants give`} this role; whoever holds it has the
            change at once.
          </p>
        )}
        <Trouble error={save.error} />
        <Button
          type="submit"
          variant="filled"
          loading={save.isPending}
          disabled={!name.trim()}
          title={name.trim() ? undefined : "Write a name first"}
        >
          {role ? `Change ${role.name}` : `Make the role ${name.trim()}`}
        </Button>
      </form>
    </Modal>
  );
}

function RemoveRole({ role, onClose }: { role: RoleInfo; onClose: () => void }) {
  const remove = useAccessAct(
    () => ask(api.DELETE("/api/v1/roles/{id}", { params: { path: { id: role.id } } })),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={`Remove the role ${role.name}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>It can go when no grant gives it any more. This can’t be undone.</p>
        <Trouble error={remove.error} />
        <Button variant="filled" loading={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Remove {role.name}
        </Button>
      </div>
    </Modal>
  );
}
