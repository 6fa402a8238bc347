import { Button, TagsInput, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useMay } from "../access/useMay";
import { Locked } from "../access/WhyNot";
import { api, ask, ServiceProblem } from "../api/client";
import type { HostDetail, HostLink } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { customerOf } from "./emblem";
import { OwnField } from "./OwnField";
import { useEstate } from "./useEstate";

/** What people keep of a host, as it stands in the form. */
interface Draft {
  label: string;
  tags: string[];
  notes: string;
  links: HostLink[];
  own: Record<string, string>;
}

const draftOf = (host: HostDetail): Draft => ({
  label: host.summary.label,
  tags: host.summary.tags,
  notes: host.notes ?? "",
  links: host.links,
  own: host.own as Record<string, string>,
});

const parts: [keyof Draft, string][] = [
  ["label", "label"],
  ["tags", "tags"],
  ["notes", "notes"],
  ["links", "links"],
  ["own", "own fields"],
];
const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** The parts of a draft that differ from what was read. */
export const changed = (draft: Draft, read: Draft) => parts.filter(([part]) => !same(draft[part], read[part]));

/**
 * My changes over what somebody else made of the host meanwhile: what only one of us touched is taken from him, what both touched
 * stays as I have it and is named.
 */
export function merge(mine: Draft, read: Draft, theirs: Draft): { draft: Draft; both: string[] } {
  const draft = { ...mine };
  const both: string[] = [];
  for (const [part, word] of parts) {
    if (same(mine[part], read[part])) Object.assign(draft, { [part]: theirs[part] });
    else if (!same(theirs[part], read[part]) && !same(theirs[part], mine[part])) both.push(word);
  }
  return { draft, both };
}

/** Label, tags, notes, links and the customer's own fields: read, then edited as one. */
export function OrderPanel({ host }: { host: HostDetail }) {
  const [editing, setEditing] = useState(false);
  const may = useMay(host.summary.groupPath);
  return (
    <section className="panel" aria-labelledby="order-title">
      <header>
        <h2 id="order-title">Notes</h2>
        {!editing &&
          (may("configure") ? (
            <Button size="compact-sm" variant="default" onClick={() => setEditing(true)}>
              Edit
            </Button>
          ) : (
            <Locked permission="configure" at={{ host: host.summary.id }}>
              Edit
            </Locked>
          ))}
      </header>
      {editing ? <Edit host={host} onDone={() => setEditing(false)} /> : <Read host={host} />}
    </section>
  );
}

function Read({ host }: { host: HostDetail }) {
  const own = host.fields.filter((f) => host.own[f.name]);
  const nothing = !host.notes && host.summary.tags.length === 0 && host.links.length === 0 && own.length === 0;
  return (
    <>
      {nothing && <p className="muted">Nobody has written anything about {host.summary.label} yet.</p>}
      {host.notes && <p className="notes">{host.notes}</p>}
      {host.summary.tags.length > 0 && (
        <p className="tags">
          {host.summary.tags.map((t) => (
            <span key={t} className="tag">
              {t}
            </span>
          ))}
        </p>
      )}
      {host.links.length > 0 && (
        <ul className="links">
          {host.links.map((l) => (
            <li key={l.title}>
              <a href={l.url} target="_blank" rel="noreferrer noopener">
                {l.title}
              </a>
            </li>
          ))}
        </ul>
      )}
      {own.length > 0 && (
        <dl className="facts">
          {own.map((f) => (
            <div key={f.id} style={{ display: "contents" }}>
              <dt>{f.name}</dt>
              <dd>{host.own[f.name]}</dd>
            </div>
          ))}
        </dl>
      )}
    </>
  );
}

function Edit({ host, onDone }: { host: HostDetail; onDone: () => void }) {
  const queries = useQueryClient();
  const { hosts } = useEstate();
  // What the draft was made from; it stays while others change the host.
  const [read, setRead] = useState(host);
  const [draft, setDraft] = useState(() => draftOf(host));
  const [told, setTold] = useState<string>();
  const set = (part: Partial<Draft>) => setDraft((d) => ({ ...d, ...part }));
  const path = { path: { id: host.summary.id } };
  const save = useMutation({
    mutationFn: async () => {
      const wish = new Set(changed(draft, draftOf(read)).map(([part]) => part));
      const fields = Object.fromEntries(read.fields.map((f) => [f.name, draft.own[f.name] ?? ""]));
      return ask(
        api.PATCH("/api/v1/hosts/{id}", {
          params: path,
          headers: { "If-Match": `"${read.version}"` },
          body: {
            label: wish.has("label") ? draft.label : null,
            groupPath: null,
            tags: wish.has("tags") ? draft.tags : null,
            notes: wish.has("notes") ? draft.notes : null,
            links: wish.has("links") ? draft.links.filter((l) => l.title || l.url) : null,
            own: wish.has("own") ? fields : null,
          },
        }),
      );
    },
    onSuccess: async (after) => {
      queries.setQueryData(["host", host.summary.id], after);
      await queries.invalidateQueries({ queryKey: ["timeline", host.summary.id] });
      onDone();
    },
    onError: async (e) => {
      if (!(e instanceof ServiceProblem) || e.word !== "changed-meanwhile") return;
      const theirs = (await ask(api.GET("/api/v1/hosts/{id}", { params: path }))) as HostDetail;
      const merged = merge(draft, draftOf(read), draftOf(theirs));
      setDraft(merged.draft);
      setRead(theirs);
      setTold(
        merged.both.length > 0
          ? `Somebody else changed ${merged.both.join(" and ")} too. Below it stands as you wrote it; the other version is: ${merged.both.map((b) => otherSaid(theirs, b)).join("; ")}. Save again to keep yours.`
          : "Somebody else changed other parts meanwhile; they are taken over below. Save again to add yours.",
      );
    },
  });
  const known = [...new Set([...hosts.values()].flatMap((h) => h.tags))].sort();
  const nothing = changed(draft, draftOf(read)).length === 0;
  const stale = save.error instanceof ServiceProblem && save.error.word === "changed-meanwhile";
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <TextInput label="Label" value={draft.label} onChange={(e) => set({ label: e.currentTarget.value })} />
      <TagsInput
        label="Tags"
        placeholder={draft.tags.length ? "" : "none"}
        splitChars={[",", ";"]}
        data={known}
        value={draft.tags}
        onChange={(tags) => set({ tags })}
      />
      <Textarea
        label="Notes"
        autosize
        minRows={3}
        maxRows={16}
        value={draft.notes}
        onChange={(e) => set({ notes: e.currentTarget.value })}
      />
      <fieldset className="links-form">
        <legend>Links</legend>
        {draft.links.map((l, i) => (
          <div key={i} className="link-line">
            <TextInput
              aria-label={`Title of link ${i + 1}`}
              placeholder="Title"
              value={l.title}
              onChange={(e) => set({ links: draft.links.with(i, { ...l, title: e.currentTarget.value }) })}
            />
            <TextInput
              aria-label={`Address of link ${i + 1}`}
              placeholder="https://"
              value={l.url}
              onChange={(e) => set({ links: draft.links.with(i, { ...l, url: e.currentTarget.value }) })}
            />
            <Button
              variant="subtle"
              color="gray"
              aria-label={`Remove link ${i + 1}`}
              onClick={() => set({ links: draft.links.filter((_, at) => at !== i) })}
            >
              Remove
            </Button>
          </div>
        ))}
        <Button
          size="compact-sm"
          variant="subtle"
          color="gray"
          onClick={() => set({ links: [...draft.links, { title: "", url: "" }] })}
        >
          Add a link
        </Button>
      </fieldset>
      {read.fields.map((f) => (
        <OwnField
          key={f.id}
          field={f}
          value={draft.own[f.name] ?? ""}
          onChange={(value) => set({ own: { ...draft.own, [f.name]: value } })}
        />
      ))}
      {told && (
        <p className="warning" role="alert">
          {told}
        </p>
      )}
      {!stale && <Trouble error={save.error} />}
      <div className="acts" style={{ justifyContent: "flex-start" }}>
        <Button
          type="submit"
          variant="filled"
          loading={save.isPending}
          disabled={nothing}
          title={nothing ? "Nothing is changed yet" : undefined}
        >
          Save for {read.summary.label} of {customerOf(read.summary.groupPath)}
        </Button>
        <Button variant="subtle" color="gray" onClick={onDone}>
          Leave as it was
        </Button>
      </div>
    </form>
  );
}

function otherSaid(theirs: HostDetail, word: string): string {
  const draft = draftOf(theirs);
  switch (word) {
    case "label":
      return `“${draft.label}”`;
    case "tags":
      return draft.tags.join(", ") || "no tags";
    case "notes":
      return `“${draft.notes || "no notes"}”`;
    case "links":
      return draft.links.map((l) => l.title).join(", ") || "no links";
    default:
      return Object.entries(draft.own)
        .map(([name, value]) => `${name} ${value}`)
        .join(", ");
  }
}
