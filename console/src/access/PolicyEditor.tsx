import { Button, Checkbox, Modal, NumberInput, SegmentedControl, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import type { ConsentRule, HostAct, HostPolicyPart, NoticeRule, PolicyInfo, RecordRule } from "../api/types";
import { readable } from "../estate/hostList";
import { Trouble } from "../parts/Trouble";
import { acts, consents, giveScreens, notices, records, rootsOf, rootsText } from "./policyWords";
import { type PolicyAt, usePolicy, useSayPolicy } from "./usePolicy";

/** Says what hosts at a place allow; each part may come from above instead. */
export function PolicyEditor({ at, onClose }: { at: PolicyAt; onClose: () => void }) {
  const policy = usePolicy(at);
  return (
    <Modal opened onClose={onClose} title={title(policy.data)} size="lg">
      {policy.data ? (
        <Form at={at} policy={policy.data} onClose={onClose} />
      ) : policy.error ? (
        <Trouble error={policy.error} />
      ) : (
        "Asking the service …"
      )}
    </Modal>
  );
}

const title = (policy: PolicyInfo | undefined) =>
  !policy ? "Host policy" : `Host policy of ${policy.place ? readable(policy.place) : "everything"}`;

function Form({ at, policy, onClose }: { at: PolicyAt; policy: PolicyInfo; onClose: () => void }) {
  const above = at === "everything" ? "not said" : "as above";
  // Taken once: what another changes meanwhile shows when this is saved.
  const [began] = useState(policy);
  const [own, setOwn] = useState<HostPolicyPart>(began.own);
  const [roots, setRoots] = useState(rootsText(began.own.fileRoots));
  const save = useSayPolicy(at, began.version, onClose);
  const change = (part: HostPolicyPart) => setOwn({ ...own, ...part });
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(own);
      }}
    >
      <ActChoice
        title="A technician may at most"
        above={above}
        value={own.allowed}
        begin={began.wanted.allowed}
        onChange={(allowed) => change({ allowed })}
      />
      <Select
        label="Consent"
        description="Whether a person at the computer agrees before a technician acts on it"
        data={[{ value: "", label: above }, ...consents]}
        value={own.consent ?? ""}
        onChange={(v) => change({ consent: (v || null) as ConsentRule | null })}
        allowDeselect={false}
      />
      <Select
        label="Notice"
        description="Whether a person at the computer learns that a technician is there"
        data={[{ value: "", label: above }, ...notices]}
        value={own.notice ?? ""}
        onChange={(v) => change({ notice: (v || null) as NoticeRule | null })}
        allowDeselect={false}
      />
      <ActChoice
        title="These take the host’s access key"
        above={above}
        value={own.keyFor}
        begin={began.wanted.keyFor ?? []}
        onChange={(keyFor) => change({ keyFor })}
      />
      <NumberInput
        label="Restart put off, minutes"
        description="How long, in all, people there may put off that their computer is restarted, shut down or put to sleep; 0 for not at all"
        placeholder={above}
        min={0}
        max={1440}
        allowDecimal={false}
        value={own.putOffMinutes ?? ""}
        onChange={(v) => change({ putOffMinutes: v === "" ? null : Number(v) })}
      />
      <Select
        label="Recording"
        description="Whether what happens in shells and at desktops is kept, to be looked at again; what is typed holds passwords too"
        data={[{ value: "", label: above }, ...records]}
        value={own.record ?? ""}
        onChange={(v) => change({ record: (v || null) as RecordRule | null })}
        allowDeselect={false}
      />
      <TextInput
        label="Files in"
        description="Folders that technicians are let into to read and change files, by whole paths with commas between them; or everywhere, or nowhere"
        placeholder={above}
        classNames={{ input: "mono" }}
        value={roots}
        onChange={(e) => {
          setRoots(e.currentTarget.value);
          change({ fileRoots: rootsOf(e.currentTarget.value) });
        }}
        spellCheck={false}
      />
      <Select
        label="Screen"
        description="Whether a computer without a screen is given one, with a terminal, for technicians; it takes Xvfb there"
        data={[{ value: "", label: above }, ...giveScreens]}
        value={own.giveScreen === true ? "yes" : own.giveScreen === false ? "no" : ""}
        onChange={(v) => change({ giveScreen: v ? v === "yes" : null })}
        allowDeselect={false}
      />
      <p className="muted" style={{ margin: 0 }}>
        Hosts that are linked keep to it at once, the others when they return. What a computer’s own file forbids stays
        forbidden.
      </p>
      <Trouble error={save.error} />
      <Button type="submit" variant="filled" loading={save.isPending}>
        {`Change the policy of ${policy.place ? readable(policy.place) : "everything"}`}
      </Button>
    </form>
  );
}

/** Either what is said above, or the acts that are ticked. */
function ActChoice({
  title,
  above,
  value,
  begin,
  onChange,
}: {
  title: string;
  above: string;
  value: HostAct[] | null | undefined;
  begin: HostAct[];
  onChange: (value: HostAct[] | null) => void;
}) {
  const said = value !== null && value !== undefined;
  return (
    <fieldset className="act-choice">
      <legend>{title}</legend>
      <SegmentedControl
        size="xs"
        aria-label={title}
        value={said ? "here" : "above"}
        onChange={(v) => onChange(v === "here" ? begin : null)}
        data={[
          { value: "above", label: above },
          { value: "here", label: "said here" },
        ]}
      />
      {said && (
        <Checkbox.Group aria-label={title} value={value} onChange={(v) => onChange(v as HostAct[])}>
          <div className="ticks">
            {acts.map((a) => (
              <Checkbox key={a.act} value={a.act} label={a.words} />
            ))}
          </div>
        </Checkbox.Group>
      )}
    </fieldset>
  );
}
