import { Button, Checkbox, NumberInput, Select, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../api/client";
import type { AccessKeyRule, ConsentRule, HostAct } from "../api/types";
import { groupChoices, useGroups } from "../estate/useGroups";
import { readable } from "../estate/hostList";
import { Trouble } from "../parts/Trouble";
import { acts, consents } from "../access/policyWords";
import { accessKeys } from "./words";

const lives = [
  { value: "86400", label: "a day" },
  { value: "604800", label: "a week" },
  { value: "2592000", label: "30 days" },
  { value: "31536000", label: "a year" },
];

/** All that an installer carries, so that nobody types it at the computer. */
export function NewInstaller({ scope, onClose }: { scope: string; onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { groups, error: groupsError } = useGroups();
  const [group, setGroup] = useState<string | null>(scope || null);
  const [note, setNote] = useState("");
  const [life, setLife] = useState<string | null>("604800");
  const [uses, setUses] = useState<string | number>("");
  const [allowed, setAllowed] = useState<HostAct[]>(acts.map((a) => a.act));
  const [consent, setConsent] = useState<ConsentRule>("never");
  const [accessKey, setAccessKey] = useState<AccessKeyRule>("none");
  const [approvalNeeded, setApprovalNeeded] = useState(false);
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/v1/installers", {
          body: {
            groupPath: group ?? "",
            note: note || null,
            expiresInSeconds: Number(life),
            maxUses: uses === "" ? null : Number(uses),
            policy: { allowed, consent },
            accessKey,
            approvalNeeded,
          },
        }),
      ),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["installers"] });
      await navigate(`/join/${made.info.id}${scope ? `?scope=${encodeURIComponent(scope)}` : ""}`);
    },
  });
  return (
    <section className="panel" aria-labelledby="new-installer" style={{ marginBottom: 16 }}>
      <header>
        <h2 id="new-installer">New installer</h2>
        <Button size="compact-sm" variant="subtle" color="gray" onClick={onClose}>
          Close
        </Button>
      </header>
      <form
        className="installer-form"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Select
          label="Group"
          placeholder={groups.length === 0 ? "There is no group yet" : "Choose"}
          data={groupChoices(groups)}
          value={group}
          onChange={setGroup}
          searchable
          required
        />
        <TextInput
          label="Note"
          placeholder="What it is for"
          value={note}
          onChange={(e) => setNote(e.currentTarget.value)}
        />
        <Select label="Lives for" data={lives} value={life} onChange={setLife} allowDeselect={false} />
        <NumberInput label="Computers" placeholder="any number" min={1} max={100000} value={uses} onChange={setUses} />
        <Select
          label="Access key"
          data={accessKeys}
          value={accessKey}
          onChange={(v) => setAccessKey(v as AccessKeyRule)}
          allowDeselect={false}
        />
        <Select
          label="Consent"
          data={consents}
          value={consent}
          onChange={(v) => setConsent(v as ConsentRule)}
          allowDeselect={false}
        />
        <Checkbox.Group
          className="whole"
          label="The computers allow a technician to"
          value={allowed}
          onChange={(v) => setAllowed(v as HostAct[])}
        >
          <div className="ticks">
            {acts.map((a) => (
              <Checkbox key={a.act} value={a.act} label={a.words} />
            ))}
          </div>
        </Checkbox.Group>
        <Checkbox
          className="whole"
          label="Each computer waits until a person lets it in"
          checked={approvalNeeded}
          onChange={(e) => setApprovalNeeded(e.currentTarget.checked)}
        />
        <div className="whole">
          <Button
            type="submit"
            variant="filled"
            loading={make.isPending}
            disabled={!group}
            title={group ? undefined : "Choose a group first"}
          >
            {group ? `Make an installer for ${readable(group)}` : "Make an installer"}
          </Button>
        </div>
      </form>
      <Trouble error={groupsError ?? make.error} />
    </section>
  );
}
