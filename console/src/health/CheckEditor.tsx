import { Button, Modal, SegmentedControl, Select, Textarea, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import type { CheckInfo, GroupInfo, Severity, Subsystem } from "../api/types";
import { groupChoices } from "../estate/useGroups";
import { minute } from "../parts/time";
import { NumberField } from "../parts/NumberField";
import { Trouble } from "../parts/Trouble";
import { ProbeFields } from "./ProbeFields";
import { newProbe } from "./probeWords";
import { severities, subsystems } from "./severity";
import { type OwnCheck, type Rule, type Setting, useKeepCheck, useSayCheck, useTrial } from "./useChecks";
import { scopeSelection } from "./useAlerts";

const everything = "everything";

const HoldField = ({ seconds, onChange }: { seconds: number; onChange: (seconds: number) => void }) => (
  <NumberField label="For how many seconds without a break, either way" min={10} value={seconds} onChange={onChange} />
);

/** The rule's three parts, and what they would have raised. */
function RuleFields({ rule, onChange, on }: { rule: Rule; onChange: (rule: Rule) => void; on?: string | undefined }) {
  const trial = useTrial();
  return (
    <>
      <TextInput
        label="Raised when"
        description="In the words of selections, for example: storage.used > 90 %"
        classNames={{ input: "mono" }}
        value={rule.when}
        onChange={(e) => onChange({ ...rule, when: e.currentTarget.value })}
      />
      <TextInput
        label="Over when"
        description="Left empty: when it is no longer so. A lower line here keeps an alert from coming and going."
        classNames={{ input: "mono" }}
        value={rule.until}
        onChange={(e) => onChange({ ...rule, until: e.currentTarget.value })}
      />
      <HoldField seconds={rule.holdSeconds} onChange={(holdSeconds) => onChange({ ...rule, holdSeconds })} />
      <div className="trial">
        <Button
          variant="default"
          size="compact-sm"
          loading={trial.isPending}
          onClick={() => trial.mutate({ ...rule, on })}
        >
          Try it on the last two days
        </Button>
        <span role="status">
          {trial.data &&
            `It would have raised ${trial.data.alerts} ${trial.data.alerts === 1 ? "alert" : "alerts"} on ${trial.data.hosts} of ${trial.data.hostsLooked} hosts.`}
          {trial.data?.note && ` ${trial.data.note}`}
        </span>
      </div>
      <Trouble error={trial.error} />
      {trial.data && trial.data.times.length > 0 && (
        <ul className="history trial-times">
          {trial.data.times.slice(0, 8).map((t, i) => (
            <li key={`${t.hostId} ${i}`}>
              <Link to={`/hosts/${t.hostId}`}>{t.label}</Link>{" "}
              <span className="muted">
                {minute(t.raisedAt)} {t.clearedAt ? `to ${minute(t.clearedAt)}` : "until now"}
              </span>
            </li>
          ))}
          {trial.data.times.length > 8 && <li className="muted">and {trial.data.times.length - 8} more</li>}
        </ul>
      )}
    </>
  );
}

/** Makes a check of one's own, or changes one. */
export function OwnCheckEditor({
  check,
  groups,
  onClose,
}: {
  check?: CheckInfo | undefined;
  groups: GroupInfo[];
  onClose: () => void;
}) {
  const [own, setOwn] = useState<OwnCheck>({
    name: check?.name ?? "",
    subsystem: check?.subsystem ?? "services",
    severity: check?.severity ?? "warning",
    when: check?.when ?? "",
    until: check?.until ?? "",
    holdSeconds: check?.holdSeconds ?? 60,
    follows: check?.follows ?? "",
    fix: check?.fix ?? "",
    groupId: groups.find((g) => g.path === check?.place)?.id ?? null,
    probe: check?.probe ?? null,
  });
  const save = useKeepCheck(check, onClose);
  const change = (part: Partial<OwnCheck>) => setOwn({ ...own, ...part });
  const place = groups.find((g) => g.id === own.groupId)?.path;
  return (
    <Modal opened onClose={onClose} size="lg" title={check ? `Change ${check.name}` : "A check of your own"}>
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(own);
        }}
      >
        <TextInput
          label="What it is called"
          value={own.name}
          onChange={(e) => change({ name: e.currentTarget.value })}
        />
        <Select
          label="For"
          data={[{ value: everything, label: "everything" }, ...groupChoices(groups)]}
          value={place ?? everything}
          onChange={(v) => change({ groupId: groups.find((g) => g.path === v)?.id ?? null })}
          allowDeselect={false}
          searchable
        />
        <SegmentedControl
          aria-label="What it goes by"
          data={[
            { value: "known", label: "what is known" },
            { value: "probe", label: "what agents look at" },
          ]}
          value={own.probe ? "probe" : "known"}
          onChange={(v) => change({ probe: v === "probe" ? newProbe("service") : null, when: "" })}
        />
        {own.probe ? (
          <>
            <ProbeFields
              probe={own.probe}
              limits={own.when}
              on={place && scopeSelection(place)}
              onProbe={(probe) => setOwn((o) => ({ ...o, probe }))}
              onLimits={(when) => setOwn((o) => ({ ...o, when }))}
            />
            <HoldField seconds={own.holdSeconds} onChange={(holdSeconds) => change({ holdSeconds })} />
          </>
        ) : (
          <RuleFields rule={own} onChange={(rule) => change(rule)} on={place && scopeSelection(place)} />
        )}
        <SegmentedControl
          aria-label="How bad it is"
          data={severities}
          value={own.severity}
          onChange={(v) => change({ severity: v as Severity })}
        />
        <Select
          label="What it is about"
          data={subsystems}
          value={own.subsystem}
          onChange={(v) => change({ subsystem: v as Subsystem })}
          allowDeselect={false}
        />
        <Textarea
          label="What follows if nobody does anything"
          value={own.follows}
          onChange={(e) => change({ follows: e.currentTarget.value })}
          autosize
        />
        <Textarea
          label="How it is fixed"
          value={own.fix}
          onChange={(e) => change({ fix: e.currentTarget.value })}
          autosize
        />
        <Trouble error={save.error} />
        <Button type="submit" variant="filled" loading={save.isPending}>
          {check ? `Change ${check.name}` : "Let it count"}
        </Button>
      </form>
    </Modal>
  );
}

/** Says something of a check for one group, or for everything. */
export function SettingEditor({
  check,
  groups,
  mayEverywhere,
  onClose,
}: {
  check: CheckInfo;
  groups: GroupInfo[];
  mayEverywhere: boolean;
  onClose: () => void;
}) {
  const [place, setPlace] = useState<string | null>(mayEverywhere ? everything : null);
  const groupId = groups.find((g) => g.path === place)?.id ?? null;
  const before = check.settings.find((s) => !s.hostId && (s.groupId ?? null) === groupId);
  return (
    <Modal opened onClose={onClose} size="lg" title={`${check.name}, otherwise in one place`}>
      <div className="stack">
        <Select
          label="Where"
          placeholder="A customer or group"
          data={[...(mayEverywhere ? [{ value: everything, label: "everything" }] : []), ...groupChoices(groups)]}
          value={place}
          onChange={setPlace}
          allowDeselect={false}
          searchable
        />
        {place && (
          <SettingForm key={place} check={check} groupId={groupId} place={place} before={before} onClose={onClose} />
        )}
      </div>
    </Modal>
  );
}

function SettingForm({
  check,
  groupId,
  place,
  before,
  onClose,
}: {
  check: CheckInfo;
  groupId: string | null;
  place: string;
  before: CheckInfo["settings"][number] | undefined;
  onClose: () => void;
}) {
  const [setting, setSetting] = useState<Setting>({
    check: check.key,
    groupId,
    off: before?.off ?? null,
    severity: before?.severity ?? null,
    when: before?.when ?? "",
    until: before?.until ?? "",
    holdSeconds: before?.holdSeconds ?? check.holdSeconds,
    note: before?.note ?? "",
  });
  const [ownRule, setOwnRule] = useState(Boolean(check.probe ? before?.holdSeconds : before?.when));
  const say = useSayCheck(onClose);
  const change = (part: Partial<Setting>) => setSetting({ ...setting, ...part });
  const above = groupId ? "as above it" : "as built";
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate(ownRule ? { ...setting, ownHold: Boolean(check.probe) } : { ...setting, when: "" });
      }}
    >
      <SegmentedControl
        aria-label="Whether it counts there"
        data={[
          { value: "above", label: above },
          { value: "on", label: "it counts" },
          { value: "off", label: "it does not count" },
        ]}
        value={setting.off === null ? "above" : setting.off ? "off" : "on"}
        onChange={(v) => change({ off: v === "above" ? null : v === "off" })}
      />
      <Select
        label="How bad it is there"
        data={[{ value: "", label: above }, ...severities]}
        value={setting.severity ?? ""}
        onChange={(v) => change({ severity: (v || null) as Severity | null })}
        allowDeselect={false}
      />
      {check.probe && (
        <p className="muted fine">
          It looks by a probe: what that looks at is the same everywhere. For another one there, make another check.
        </p>
      )}
      <SegmentedControl
        aria-label="Which rule"
        data={
          check.probe
            ? [
                { value: "above", label: `the hold time ${above}` },
                { value: "own", label: "a hold time of its own" },
              ]
            : [
                { value: "above", label: `the rule ${above}` },
                { value: "own", label: "a rule of its own" },
              ]
        }
        value={ownRule ? "own" : "above"}
        onChange={(v) => {
          setOwnRule(v === "own");
          if (v === "own" && !setting.when && !check.probe) change({ when: check.when, until: check.until ?? "" });
        }}
      />
      {ownRule && check.probe && (
        <HoldField seconds={setting.holdSeconds} onChange={(holdSeconds) => change({ holdSeconds })} />
      )}
      {ownRule && !check.probe && (
        <RuleFields
          rule={setting}
          onChange={(rule) => change(rule)}
          on={place === everything ? undefined : scopeSelection(place)}
        />
      )}
      <TextInput label="Why" value={setting.note} onChange={(e) => change({ note: e.currentTarget.value })} />
      <Trouble error={say.error} />
      <span className="acts">
        {before && (
          <Button
            variant="default"
            loading={say.isPending}
            onClick={() => say.mutate({ ...setting, nothing: true })}
          >{`Say nothing for ${place} any more`}</Button>
        )}
        <Button type="submit" variant="filled" loading={say.isPending}>
          {`Say it for ${place}`}
        </Button>
      </span>
    </form>
  );
}
