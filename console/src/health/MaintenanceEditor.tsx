import { Button, Modal, SegmentedControl, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import type { GroupInfo, MaintenanceInfo } from "../api/types";
import { groupChoices } from "../estate/useGroups";
import { NumberField } from "../parts/NumberField";
import { Trouble } from "../parts/Trouble";
import { recurrences } from "./recurrence";
import { type MaintenanceWish, useKeepMaintenance } from "./useMaintenance";

const everything = "everything";
const other = "other";

/** Makes a maintenance window, or changes one. */
export function MaintenanceEditor({
  window: before,
  host,
  groups,
  mayEverywhere,
  onClose,
}: {
  window?: MaintenanceInfo | undefined;
  /** The one host that it is for. */
  host?: { id: string; label: string } | undefined;
  groups: GroupInfo[];
  mayEverywhere: boolean;
  onClose: () => void;
}) {
  const [wish, setWish] = useState<MaintenanceWish>({
    name: before?.name ?? "",
    groupId: before?.groupId ?? (host || mayEverywhere ? null : (groups[0]?.id ?? null)),
    hostId: before?.hostId ?? host?.id ?? null,
    on: before?.on ?? null,
    starts: before?.starts ?? null,
    zone: before?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
    minutes: before?.minutes ?? 120,
    rule: before?.rule ?? null,
    note: before?.note ?? null,
  });
  const [ownRule, setOwnRule] = useState(!recurrences.some((r) => r.value === (wish.rule ?? "")));
  const keep = useKeepMaintenance(before, onClose);
  const change = (part: Partial<MaintenanceWish>) => setWish({ ...wish, ...part });
  const place = groups.find((g) => g.id === wish.groupId)?.path;
  const ofHost = host?.label ?? (before?.hostId ? before.place : undefined);
  return (
    <Modal
      opened
      onClose={onClose}
      title={before ? `Change ${before.name}` : ofHost ? `Maintenance of ${ofHost}` : "A maintenance window"}
    >
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate(wish);
        }}
      >
        <TextInput
          label="What is done in it"
          value={wish.name}
          onChange={(e) => change({ name: e.currentTarget.value })}
        />
        {!wish.hostId && (
          <>
            <Select
              label="For hosts of"
              data={[...(mayEverywhere ? [{ value: everything, label: "everything" }] : []), ...groupChoices(groups)]}
              value={place ?? everything}
              onChange={(v) => change({ groupId: groups.find((g) => g.path === v)?.id ?? null })}
              allowDeselect={false}
              searchable
            />
            <TextInput
              label="And only those that match"
              description="In the words of selections, for example: tagged till"
              classNames={{ input: "mono" }}
              value={wish.on ?? ""}
              onChange={(e) => change({ on: e.currentTarget.value || null })}
            />
          </>
        )}
        <SegmentedControl
          aria-label="When it begins"
          data={[
            { value: "now", label: "now" },
            { value: "at", label: "at a time" },
          ]}
          value={wish.starts === null ? "now" : "at"}
          onChange={(v) => change(v === "now" ? { starts: null, rule: null } : { starts: nextHour() })}
        />
        {wish.starts !== null && (
          <>
            <TextInput
              label="Begins"
              type="datetime-local"
              value={wish.starts}
              onChange={(e) => change({ starts: e.currentTarget.value })}
            />
            <TextInput
              label="Time zone"
              classNames={{ input: "mono" }}
              value={wish.zone}
              onChange={(e) => change({ zone: e.currentTarget.value })}
            />
            <Select
              label="Comes again"
              data={[...recurrences, { value: other, label: "by a rule of its own" }]}
              value={ownRule ? other : (wish.rule ?? "")}
              onChange={(v) => {
                setOwnRule(v === other);
                change({ rule: v === other ? (wish.rule ?? "FREQ=WEEKLY;BYDAY=SU") : v || null });
              }}
              allowDeselect={false}
            />
            {ownRule && (
              <TextInput
                label="Rule"
                description="An iCalendar recurrence rule (RFC 5545), for example: FREQ=MONTHLY;BYDAY=1SU"
                classNames={{ input: "mono" }}
                value={wish.rule ?? ""}
                onChange={(e) => change({ rule: e.currentTarget.value || null })}
              />
            )}
          </>
        )}
        <NumberField
          label="For how many minutes"
          min={1}
          max={10080}
          value={wish.minutes}
          onChange={(minutes) => change({ minutes })}
        />
        <TextInput
          label="What others should know"
          value={wish.note ?? ""}
          onChange={(e) => change({ note: e.currentTarget.value || null })}
        />
        <Trouble error={keep.error} />
        <Button type="submit" variant="filled" loading={keep.isPending}>
          {before ? `Change ${before.name}` : "Make no noise then"}
        </Button>
      </form>
    </Modal>
  );
}

/** The next full hour of this browser's clock, as the field has it. */
function nextHour(): string {
  const at = new Date();
  at.setHours(at.getHours() + 1, 0, 0, 0);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}T${two(at.getHours())}:00`;
}
