import { Button, Modal, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import { groupChoices, useGroups } from "../estate/useGroups";
import { Trouble } from "../parts/Trouble";
import { endOf, whereOf } from "./grants";
import { useMe } from "./useMay";
import { useAccessAct, useRoles } from "./useAccess";

export type Holder = { technician: string } | { team: string };

const EVERYTHING = "*";

/** Gives a technician or a team a role somewhere. */
export function GiveRole({ to, at, onClose }: { to: Holder; at?: string; onClose: () => void }) {
  const name = "technician" in to ? to.technician : `the team ${to.team}`;
  const { roles, error: rolesError } = useRoles();
  const { groups, error: groupsError } = useGroups();
  const me = useMe();
  const [role, setRole] = useState<string | null>("technician");
  const [where, setWhere] = useState<string | null>(at ?? null);
  const [until, setUntil] = useState("");
  const [note, setNote] = useState("");
  const give = useAccessAct(
    () =>
      ask(
        api.POST("/api/v1/grants", {
          body: {
            technician: "technician" in to ? to.technician : null,
            team: "team" in to ? to.team : null,
            role: role ?? "",
            groupPath: where === EVERYTHING ? null : where,
            everything: where === EVERYTHING,
            endsAt: endOf(until),
            note: note || null,
          },
        }),
      ),
    onClose,
  );
  const places = groupChoices(groups.filter((g) => g.may.includes("administer")));
  const all = me?.everywhere.includes("administer") ? [{ value: EVERYTHING, label: "Everything" }, ...places] : places;
  const chosen = roles.find((r) => r.name === role);
  return (
    <Modal opened onClose={onClose} title={`Give ${name} a role`} size="lg">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          give.mutate(undefined);
        }}
      >
        <Select
          label="Role"
          data={roles.map((r) => r.name)}
          value={role}
          onChange={setRole}
          allowDeselect={false}
          data-autofocus
          {...(chosen && { description: chosen.permissions.join(", ") })}
        />
        <Select
          label="Where, with everything below"
          placeholder="Choose a customer or group"
          searchable
          data={all}
          value={where}
          onChange={setWhere}
        />
        <TextInput
          label="Until (your own time; empty: no end)"
          type="datetime-local"
          value={until}
          onChange={(e) => setUntil(e.currentTarget.value)}
        />
        <TextInput
          label="Why"
          placeholder="for the list"
          value={note}
          onChange={(e) => setNote(e.currentTarget.value)}
        />
        <Trouble error={rolesError ?? groupsError ?? give.error} />
        <Button
          type="submit"
          variant="filled"
          loading={give.isPending}
          disabled={!where || !role}
          title={where && role ? undefined : "Choose a role and a place first"}
        >
          {where && role
            ? `Make ${name} ${role} on ${whereOf(where === EVERYTHING ? null : where)}`
            : `Give ${name} a role`}
        </Button>
      </form>
    </Modal>
  );
}
