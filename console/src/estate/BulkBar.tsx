import { Button, Select, TagsInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { BulkOutcome, HostSummary } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { customerOf } from "./emblem";
import { selectionOf } from "./hostList";
import { OwnField } from "./OwnField";
import { sharedFields } from "./ownFields";
import { useCustomers } from "./useCustomers";
import { groupChoices, useGroups } from "./useGroups";

const MOST_NAMED = 4;
/** As many as the page that compares takes. */
const MOST_COMPARED = 6;
/** As many as an address takes, and as the page shows. */
const MOST_WATCHED = 60;

/** What can be done with the marked hosts; what would change is shown before it is done. */
export function BulkBar({ hosts, onClear }: { hosts: HostSummary[]; onClear: () => void }) {
  const { groups } = useGroups();
  const [group, setGroup] = useState<string | null>(null);
  const [add, setAdd] = useState<string[]>([]);
  const [remove, setRemove] = useState<string[]>([]);
  const [fieldName, setFieldName] = useState<string | null>(null);
  const [value, setValue] = useState("");
  const customers = useCustomers();
  const fields = sharedFields(customers, new Set(hosts.map((h) => customerOf(h.groupPath))));
  const field = fields.find((f) => f.name === fieldName);
  const edit = useMutation({
    mutationFn: (preview: boolean) =>
      ask(
        api.POST("/api/v1/hosts/edits", {
          body: {
            selection: null,
            hostIds: hosts.map((h) => h.id),
            groupPath: group,
            addTags: add,
            removeTags: remove,
            own: field ? { [field.name]: value } : null,
            preview,
          },
        }),
      ) as Promise<BulkOutcome>,
    onSuccess: (outcome, preview) => {
      if (!preview && outcome.problems.length === 0) {
        setGroup(null);
        setAdd([]);
        setRemove([]);
        setFieldName(null);
        setValue("");
      }
    },
  });
  const tags = [...new Set(hosts.flatMap((h) => h.tags))];
  const nothing = !group && add.length === 0 && remove.length === 0 && !field;
  const who = hosts.length === 1 ? (hosts[0]?.label ?? "") : `${hosts.length} hosts`;
  return (
    <section className="bulk" aria-label="Marked hosts">
      <div className="bulk-who">
        <b>
          {hosts.length} {hosts.length === 1 ? "host" : "hosts"} marked
        </b>
        <span className="muted">
          {hosts
            .slice(0, MOST_NAMED)
            .map((h) => h.label)
            .join(", ")}
          {hosts.length > MOST_NAMED && ` and ${hosts.length - MOST_NAMED} more`}
        </span>
        {hosts.length <= MOST_COMPARED && (
          <Button
            size="compact-sm"
            variant="default"
            component={Link}
            to={`/hosts/compare?hosts=${hosts.map((h) => h.id).join(",")}`}
          >
            Compare their health
          </Button>
        )}
        {hosts.length <= MOST_WATCHED && (
          <Button
            size="compact-sm"
            variant="default"
            component={Link}
            to={`/hosts/screens?hosts=${hosts.map((h) => h.id).join(",")}`}
          >
            Watch their screens
          </Button>
        )}
        <Button
          size="compact-sm"
          variant="default"
          component={Link}
          to={`/work/new?on=${encodeURIComponent(hosts.map((h) => `(${selectionOf(h)})`).join(" or "))}`}
        >
          Run a command on {who}
        </Button>
        <Button size="compact-sm" variant="subtle" color="gray" onClick={onClear}>
          Unmark all
        </Button>
      </div>
      <div className="bulk-form">
        <Select
          size="sm"
          label="Move to"
          placeholder="stay where they are"
          clearable
          searchable
          data={groupChoices(groups)}
          value={group}
          onChange={(v) => {
            setGroup(v);
            edit.reset();
          }}
        />
        <TagsInput
          size="sm"
          label="Add tags"
          placeholder={add.length ? "" : "none"}
          splitChars={[",", ";"]}
          value={add}
          onChange={(v) => {
            setAdd(v);
            edit.reset();
          }}
        />
        <TagsInput
          size="sm"
          label="Take tags away"
          placeholder={remove.length ? "" : "none"}
          data={tags}
          value={remove}
          onChange={(v) => {
            setRemove(v);
            edit.reset();
          }}
        />
        {fields.length > 0 && (
          <Select
            size="sm"
            label="Set the own field"
            placeholder="none"
            clearable
            data={fields.map((f) => f.name)}
            value={fieldName}
            onChange={(v) => {
              setFieldName(v);
              setValue("");
              edit.reset();
            }}
          />
        )}
        {field && (
          <OwnField
            field={field}
            value={value}
            onChange={(v) => {
              setValue(v);
              edit.reset();
            }}
          />
        )}
        <Button
          variant="default"
          disabled={nothing}
          title={nothing ? "Choose a group, tags or an own field first" : undefined}
          loading={edit.isPending}
          onClick={() => edit.mutate(true)}
        >
          Show what changes
        </Button>
      </div>
      <Trouble error={edit.error} />
      {edit.data && <Outcome outcome={edit.data} who={who} onDo={() => edit.mutate(false)} busy={edit.isPending} />}
    </section>
  );
}

function Outcome({ outcome, who, onDo, busy }: { outcome: BulkOutcome; who: string; onDo: () => void; busy: boolean }) {
  if (outcome.changed === 0 && outcome.problems.length === 0)
    return <p className="muted">Nothing changes: all is as you want it.</p>;
  if (!outcome.preview) {
    return (
      <p role="status">
        {outcome.changed} {outcome.changed === 1 ? "host" : "hosts"} changed.
      </p>
    );
  }
  return (
    <>
      <div className="rows bulk-preview" tabIndex={0} role="region" aria-label="What would change">
        {outcome.problems.map((p) => (
          <div key={p.hostId} className="row bulk-row trouble">
            <b>{p.label}</b>
            <span style={{ gridColumn: "2 / -1" }}>{p.problem}</span>
          </div>
        ))}
        {outcome.changes.map((c, i) => (
          <div key={i} className="row bulk-row">
            <b>{c.label}</b>
            <span className="muted">{c.what}</span>
            <span>{c.before ?? "–"}</span>
            <span>
              <span aria-label="becomes">→</span> {c.after ?? "–"}
            </span>
          </div>
        ))}
      </div>
      {outcome.problems.length > 0 ? (
        <p>Nothing is changed while one of them can’t be.</p>
      ) : (
        <Button variant="filled" mt={8} onClick={onDo} loading={busy}>
          Change {who}
        </Button>
      )}
    </>
  );
}
