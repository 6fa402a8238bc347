import { Button, Modal, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { useTeams, useTechnicians } from "../access/useAccess";
import { api, ask } from "../api/client";
import type { ScriptInfo, ScriptShare } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { useScriptAct } from "./scripts";

type May = "no" | "use" | "change";

const everybody = "everybody";

/** What a script is called, whose it is, and who else may use or change it. */
export function ScriptSharing({ script: now, onClose }: { script: ScriptInfo; onClose: () => void }) {
  // As it was read: what another changed meanwhile is not to be overwritten unseen.
  const [script] = useState(now);
  const { teams } = useTeams();
  const { technicians } = useTechnicians();
  const [name, setName] = useState(script.name);
  const [description, setDescription] = useState(script.description ?? "");
  const [owner, setOwner] = useState(script.ownerId ?? null);
  const [shares, setShares] = useState<Record<string, May>>(() =>
    Object.fromEntries(script.sharing.map((s) => [s.teamId ?? everybody, s.mayChange ? "change" : "use"])),
  );
  const sharing: ScriptShare[] = Object.entries(shares)
    .filter(([, may]) => may !== "no")
    .map(([id, may]) => ({ teamId: id === everybody ? null : id, mayChange: may === "change" }));
  const save = useScriptAct(
    () =>
      ask(
        api.PUT("/api/v1/scripts/{id}", {
          params: { path: { id: script.id } },
          headers: { "If-Match": `"${script.version}"` },
          body: { name, description, sharing, ownerId: owner },
        }),
      ),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={`Name and sharing of ${script.name}`} size="lg">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(undefined);
        }}
      >
        <TextInput label="Name" data-autofocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <TextInput label="What it is for" value={description} onChange={(e) => setDescription(e.currentTarget.value)} />
        <Select
          label="Owner"
          description="Who is given it decides from then on who else has it."
          data={technicians.map((t) => ({ value: t.id, label: t.name }))}
          value={owner}
          onChange={setOwner}
          allowDeselect={false}
          searchable
        />
        <div className="installer-form">
          {[{ id: everybody, name: "Everybody" }, ...teams].map((t) => (
            <Select
              key={t.id}
              label={t.id === everybody ? "Everybody who may run commands" : `Team ${t.name}`}
              data={[
                { value: "no", label: "does not see it" },
                { value: "use", label: "may run it" },
                { value: "change", label: "may run and change it" },
              ]}
              value={shares[t.id] ?? "no"}
              onChange={(may) => setShares({ ...shares, [t.id]: may as May })}
              allowDeselect={false}
            />
          ))}
        </div>
        <Trouble error={save.error} />
        <Button
          type="submit"
          variant="filled"
          loading={save.isPending}
          disabled={!name.trim()}
          title={name.trim() ? undefined : "Write a name first"}
        >
          Change {script.name}
        </Button>
      </form>
    </Modal>
  );
}
