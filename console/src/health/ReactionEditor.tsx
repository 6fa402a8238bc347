import { Button, Checkbox, Modal, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import type { GroupInfo, NewReaction, ReactionInfo } from "../api/types";
import { groupChoices } from "../estate/useGroups";
import { LibraryChoice } from "../jobs/LibraryChoice";
import { NumberField } from "../parts/NumberField";
import { Trouble } from "../parts/Trouble";
import { useChecks } from "./useChecks";
import { useKeepReaction, wishOf } from "./useReactions";

const everything = "everything";

/** Has something run when a check is raised, or changes that. */
export function ReactionEditor({
  reaction: before,
  groups,
  mayEverywhere,
  onClose,
}: {
  reaction?: ReactionInfo | undefined;
  groups: GroupInfo[];
  mayEverywhere: boolean;
  onClose: () => void;
}) {
  const [wish, setWish] = useState<NewReaction>(
    before
      ? wishOf(before)
      : {
          name: "",
          check: "",
          scriptId: "",
          groupId: mayEverywhere ? null : (groups[0]?.id ?? null),
          hostId: null,
          number: null,
          values: {},
          waitSeconds: 0,
          spacingSeconds: 3600,
          usesVault: false,
          off: false,
        },
  );
  const checks = useChecks();
  const keep = useKeepReaction(before, onClose);
  const change = (part: Partial<NewReaction>) => setWish({ ...wish, ...part });
  const place = groups.find((g) => g.id === wish.groupId)?.path;
  const missing = !wish.name.trim()
    ? "Give it a name first"
    : !wish.check
      ? "Choose a check first"
      : !wish.scriptId
        ? "Choose what runs first"
        : undefined;
  return (
    <Modal opened onClose={onClose} size="lg" title={before ? `Change ${before.name}` : "A reaction"}>
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          if (!missing) keep.mutate(wish);
        }}
      >
        <TextInput
          label="What it is called"
          value={wish.name}
          onChange={(e) => change({ name: e.currentTarget.value })}
        />
        <Select
          label="When this check is raised"
          data={(checks.data ?? []).map((c) => ({ value: c.key, label: c.name }))}
          value={wish.check || null}
          onChange={(check) => change({ check: check ?? "" })}
          searchable
        />
        {before?.hostId ? (
          <p className="muted">On {before.place}</p>
        ) : (
          <Select
            label="On hosts of"
            data={[...(mayEverywhere ? [{ value: everything, label: "everything" }] : []), ...groupChoices(groups)]}
            value={place ?? everything}
            onChange={(v) => change({ groupId: groups.find((g) => g.path === v)?.id ?? null })}
            allowDeselect={false}
            searchable
          />
        )}
        <LibraryChoice
          choice={{ id: wish.scriptId || undefined, number: wish.number ?? undefined, values: { ...wish.values } }}
          onChange={({ id, number, values }) =>
            change({
              scriptId: id ?? "",
              number: number ?? null,
              values: Object.fromEntries(Object.entries(values).filter(([, v]) => v !== "")),
            })
          }
        />
        <NumberField
          label="After how many minutes, if it is still open"
          min={0}
          max={10080}
          value={(wish.waitSeconds ?? 0) / 60}
          onChange={(minutes) => change({ waitSeconds: minutes * 60 })}
        />
        <NumberField
          label="On one host not again within how many minutes"
          min={1}
          max={527040}
          value={(wish.spacingSeconds ?? 3600) / 60}
          onChange={(minutes) => change({ spacingSeconds: minutes * 60 })}
        />
        <Checkbox
          label="Prove the access key from the vault where a host asks for it"
          checked={wish.usesVault ?? false}
          onChange={(e) => change({ usesVault: e.currentTarget.checked })}
        />
        <Checkbox
          label="Switched off"
          checked={wish.off ?? false}
          onChange={(e) => change({ off: e.currentTarget.checked })}
        />
        <p className="muted" style={{ margin: 0 }}>
          It runs with what you are granted at the time. Alerts that are there already stay with people, and so does one
          that somebody has taken up.
        </p>
        <Trouble error={keep.error} />
        <div>
          <Button type="submit" variant="filled" loading={keep.isPending} disabled={!!missing} title={missing}>
            {before ? `Change ${before.name}` : "Have it run"}
          </Button>
          {missing && <span className="muted"> {missing}</span>}
        </div>
      </form>
    </Modal>
  );
}
