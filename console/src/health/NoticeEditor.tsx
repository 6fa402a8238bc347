import { Button, Checkbox, Modal, MultiSelect, SegmentedControl, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { useTeams } from "../access/useAccess";
import type { GroupInfo, NewNotice, NoticeInfo, NoticeMade, NoticeWay, Severity, Subsystem } from "../api/types";
import { groupChoices } from "../estate/useGroups";
import { NumberField } from "../parts/NumberField";
import { Trouble } from "../parts/Trouble";
import { noticeWish } from "./noticeWords";
import { severities, subsystems } from "./severity";
import { useKeepNotice } from "./useNotices";

const everything = "everything";
type When = "now" | "later" | "daily";

const fresh: NewNotice = {
  name: "",
  way: "mail",
  atLeast: "warning",
  addresses: [],
  afterSeconds: 0,
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  criticalAlways: true,
  tellsEnd: true,
  off: false,
};

/** Makes a notice, or changes one. */
export function NoticeEditor({
  notice,
  groups,
  mayEverywhere,
  onDone,
  onClose,
}: {
  notice?: NoticeInfo | undefined;
  groups: GroupInfo[];
  mayEverywhere: boolean;
  onDone: (made: NoticeMade) => void;
  onClose: () => void;
}) {
  const [wish, setWish] = useState<NewNotice>(
    notice ? noticeWish(notice) : { ...fresh, groupId: mayEverywhere ? null : (groups[0]?.id ?? null) },
  );
  const [when, setWhen] = useState<When>(
    wish.digestAt && wish.digestAt.length > 0 ? "daily" : (wish.afterSeconds ?? 0) > 0 ? "later" : "now",
  );
  const [addresses, setAddresses] = useState((wish.addresses ?? []).join(", "));
  const [times, setTimes] = useState((wish.digestAt ?? ["07:30"]).join(", "));
  const { teams } = useTeams();
  const keep = useKeepNotice(notice, onDone);
  const change = (part: Partial<NewNotice>) => setWish({ ...wish, ...part });
  const listed = (text: string) =>
    text
      .split(/[,;\s]+/)
      .map((t) => t.trim())
      .filter(Boolean);
  const place = groups.find((g) => g.id === wish.groupId)?.path;
  return (
    <Modal opened onClose={onClose} size="lg" title={notice ? `Change ${notice.name}` : "A notice"}>
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          const mail = wish.way === "mail";
          keep.mutate({
            ...wish,
            addresses: mail ? listed(addresses) : [],
            teamId: mail ? (wish.teamId ?? null) : null,
            url: mail ? null : wish.url,
            afterSeconds: when === "later" ? wish.afterSeconds : 0,
            digestAt: mail && when === "daily" ? listed(times) : null,
            quiet: when === "daily" ? null : wish.quiet || null,
            on: wish.on || null,
          });
        }}
      >
        <TextInput
          label="What it is called"
          value={wish.name}
          onChange={(e) => change({ name: e.currentTarget.value })}
        />
        {!notice && (
          <SegmentedControl
            aria-label="How it tells"
            data={[
              { value: "mail", label: "by mail" },
              { value: "hook", label: "by web hook" },
            ]}
            value={wish.way}
            onChange={(v) => {
              change({ way: v as NoticeWay });
              if (v === "hook" && when === "daily") setWhen("now");
            }}
          />
        )}
        {wish.way === "mail" ? (
          <>
            <Select
              label="To the team"
              description="Each member gets what is about hosts that he may see."
              placeholder="no team"
              data={teams.map((t) => ({ value: t.id, label: t.name }))}
              value={wish.teamId ?? null}
              onChange={(v) => change({ teamId: v })}
              clearable
            />
            <TextInput
              label="And to these addresses"
              placeholder="duty@halyard.example"
              classNames={{ input: "mono" }}
              value={addresses}
              onChange={(e) => setAddresses(e.currentTarget.value)}
            />
          </>
        ) : (
          <TextInput
            label="Web address"
            description="Gets each alert as a CloudEvent (JSON), signed."
            placeholder="https://desk.halyard.example/alerts"
            classNames={{ input: "mono" }}
            value={wish.url ?? ""}
            onChange={(e) => change({ url: e.currentTarget.value })}
          />
        )}
        <Select
          label="About hosts of"
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
          onChange={(e) => change({ on: e.currentTarget.value })}
        />
        <Select
          label="From which severity"
          data={severities.map((s) => ({ value: s, label: s === "critical" ? s : `${s} and worse` }))}
          value={wish.atLeast ?? "warning"}
          onChange={(v) => change({ atLeast: (v ?? "warning") as Severity })}
          allowDeselect={false}
        />
        <MultiSelect
          label="About"
          placeholder={wish.about && wish.about.length > 0 ? "" : "everything"}
          data={subsystems}
          value={wish.about ?? []}
          onChange={(v) => change({ about: v.length > 0 ? (v as Subsystem[]) : null })}
        />
        <SegmentedControl
          aria-label="When it tells"
          data={[
            { value: "now", label: "at once" },
            { value: "later", label: "when nobody takes it up" },
            ...(wish.way === "mail" ? [{ value: "daily", label: "in a daily summary" }] : []),
          ]}
          value={when}
          onChange={(v) => {
            setWhen(v as When);
            if (v === "later" && !wish.afterSeconds) change({ afterSeconds: 900 });
          }}
        />
        {when === "later" && (
          <NumberField
            label="For how many minutes nobody has taken it up"
            min={1}
            value={(wish.afterSeconds ?? 0) / 60}
            onChange={(minutes) => change({ afterSeconds: minutes * 60 })}
          />
        )}
        {when === "daily" ? (
          <TextInput
            label="At these times of day"
            classNames={{ input: "mono" }}
            value={times}
            onChange={(e) => setTimes(e.currentTarget.value)}
          />
        ) : (
          <>
            <TextInput
              label="Quiet hours"
              description="For example: mon-fri 19:00-07:00, sat-sun. What is still so afterwards is told then."
              classNames={{ input: "mono" }}
              value={wish.quiet ?? ""}
              onChange={(e) => change({ quiet: e.currentTarget.value })}
            />
            {wish.quiet && (
              <Checkbox
                label="Critical alerts are told in quiet hours too"
                checked={wish.criticalAlways ?? true}
                onChange={(e) => change({ criticalAlways: e.currentTarget.checked })}
              />
            )}
          </>
        )}
        {(when === "daily" || wish.quiet) && (
          <TextInput
            label="Time zone of those"
            classNames={{ input: "mono" }}
            value={wish.zone ?? ""}
            onChange={(e) => change({ zone: e.currentTarget.value })}
          />
        )}
        <Checkbox
          label="Tell it too when an alert is over"
          checked={wish.tellsEnd ?? true}
          onChange={(e) => change({ tellsEnd: e.currentTarget.checked })}
        />
        <Trouble error={keep.error} />
        <Button type="submit" variant="filled" loading={keep.isPending}>
          {notice ? `Change ${notice.name}` : "Let it tell"}
        </Button>
      </form>
    </Modal>
  );
}
