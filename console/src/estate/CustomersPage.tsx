import { Button, Select, SimpleGrid, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { Locked } from "../access/WhyNot";
import { api, ask, ServiceProblem } from "../api/client";
import type { CustomerInfo, OwnFieldKind } from "../api/types";
import { Empty, Trouble } from "../parts/Trouble";
import { colours, colourWords, emblemOf, patterns } from "./emblem";
import { Flag } from "./Emblem";
import { HostsTabs } from "./HostsTabs";
import { useCustomers } from "./useCustomers";
import { useGroups } from "./useGroups";

const kinds: { value: OwnFieldKind; label: string }[] = [
  { value: "text", label: "text" },
  { value: "number", label: "number" },
  { value: "date", label: "day" },
  { value: "choice", label: "one of a list" },
];

/** Whose computers they are, and what is kept of each. */
export function CustomersPage() {
  const customers = useCustomers();
  const { groups } = useGroups();
  const mayEdit = (id: string) => groups.find((g) => g.id === id)?.may.includes("configure") ?? true;
  const [open, setOpen] = useState<string>();
  return (
    <main className="page">
      <div className="page-head">
        <h1>Customers</h1>
        <HostsTabs />
      </div>
      {customers.length === 0 && (
        <Empty title="No customer yet">
          Make the first under <Link to="/hosts/groups">Groups</Link>.
        </Empty>
      )}
      <div className="customers">
        {customers.map((c) => (
          <section
            key={c.id}
            className={c.id === open ? "panel customer whole" : "panel customer"}
            style={{ "--edge": emblemOf(c.name, c).field } as React.CSSProperties}
            aria-labelledby={`c-${c.id}`}
          >
            <header>
              <h2 id={`c-${c.id}`} className="whose">
                <Flag design={emblemOf(c.name, c)} size={26} />
                {c.name}
              </h2>
              {mayEdit(c.id) ? (
                <Button
                  size="compact-sm"
                  variant="default"
                  aria-expanded={c.id === open}
                  onClick={() => setOpen(c.id === open ? undefined : c.id)}
                >
                  {c.id === open ? "Close" : "Edit"}
                </Button>
              ) : (
                <Locked permission="configure" at={{ group: c.id }}>
                  Edit
                </Locked>
              )}
            </header>
            {c.id === open ? <Edit key={c.id} customer={c} /> : <Read customer={c} />}
          </section>
        ))}
      </div>
    </main>
  );
}

function Read({ customer: c }: { customer: CustomerInfo }) {
  return (
    <dl className="facts">
      <dt>Hosts</dt>
      <dd>
        <Link to={`/hosts?scope=${encodeURIComponent(c.name)}`}>
          {c.hosts} {c.hosts === 1 ? "host" : "hosts"}
        </Link>
      </dd>
      <dt>Contact</dt>
      <dd className="lines">{c.contact ?? <span className="muted">nobody named</span>}</dd>
      <dt>Address</dt>
      <dd className="lines">{c.address ?? <span className="muted">–</span>}</dd>
      {c.notes && (
        <>
          <dt>Notes</dt>
          <dd className="lines">{c.notes}</dd>
        </>
      )}
      {c.fields.length > 0 && (
        <>
          <dt>Own fields</dt>
          <dd>{c.fields.map((f) => f.name).join(", ")}</dd>
        </>
      )}
    </dl>
  );
}

function Edit({ customer }: { customer: CustomerInfo }) {
  const queries = useQueryClient();
  const [read, setRead] = useState(customer);
  const [contact, setContact] = useState(customer.contact ?? "");
  const [address, setAddress] = useState(customer.address ?? "");
  const [notes, setNotes] = useState(customer.notes ?? "");
  const [colour, setColour] = useState(customer.colour ?? "");
  const [emblem, setEmblem] = useState(customer.emblem ?? "");
  const path = { path: { id: customer.id } };
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PATCH("/api/v1/customers/{id}", {
          params: path,
          headers: { "If-Match": `"${read.version}"` },
          body: { contact, address, notes, colour, emblem },
        }),
      ),
    onSuccess: async (after) => {
      setRead(after as CustomerInfo);
      await queries.invalidateQueries({ queryKey: ["customers"] });
    },
    onError: async (e) => {
      if (!(e instanceof ServiceProblem) || e.word !== "changed-meanwhile") return;
      // What I left alone is taken from the other; what I wrote stays until I save it again.
      const theirs = (await ask(api.GET("/api/v1/customers/{id}", { params: path }))) as CustomerInfo;
      if (contact === (read.contact ?? "")) setContact(theirs.contact ?? "");
      if (address === (read.address ?? "")) setAddress(theirs.address ?? "");
      if (notes === (read.notes ?? "")) setNotes(theirs.notes ?? "");
      if (colour === (read.colour ?? "")) setColour(theirs.colour ?? "");
      if (emblem === (read.emblem ?? "")) setEmblem(theirs.emblem ?? "");
      setRead(theirs);
    },
  });
  const design = emblemOf(customer.name, { colour, emblem });
  return (
    <div className="stack">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <SimpleGrid cols={{ base: 1, sm: 2 }}>
          <Textarea
            label="Contact"
            autosize
            minRows={2}
            value={contact}
            onChange={(e) => setContact(e.currentTarget.value)}
          />
          <Textarea
            label="Address"
            autosize
            minRows={2}
            value={address}
            onChange={(e) => setAddress(e.currentTarget.value)}
          />
        </SimpleGrid>
        <Textarea label="Notes" autosize minRows={2} value={notes} onChange={(e) => setNotes(e.currentTarget.value)} />
        <div className="mark-form">
          <Flag design={design} size={56} />
          <fieldset>
            <legend>Colour</legend>
            <div className="swatches">
              {colourWords.map((word) => (
                <button
                  key={word}
                  type="button"
                  className="swatch"
                  style={{ background: colours[word]?.[0] }}
                  aria-label={word}
                  title={word}
                  aria-pressed={colour === word}
                  onClick={() => setColour(colour === word ? "" : word)}
                />
              ))}
            </div>
          </fieldset>
          <fieldset>
            <legend>Emblem</legend>
            <div className="swatches">
              {patterns.map((p) => (
                <button
                  key={p}
                  type="button"
                  className="swatch"
                  aria-label={p}
                  title={p}
                  aria-pressed={emblem === p}
                  onClick={() => setEmblem(emblem === p ? "" : p)}
                >
                  <Flag design={{ ...design, pattern: p }} size={26} />
                </button>
              ))}
            </div>
          </fieldset>
          <span className="muted">{colour || emblem ? "" : "follows from the name"}</span>
        </div>
        <Trouble error={save.error} />
        <div>
          <Button type="submit" variant="filled" loading={save.isPending}>
            Save for {customer.name}
          </Button>
          {save.isSuccess && (
            <span className="muted" role="status">
              {" "}
              Saved.
            </span>
          )}
        </div>
      </form>
      <Fields customer={customer} />
    </div>
  );
}

function Fields({ customer }: { customer: CustomerInfo }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [kind, setKind] = useState<OwnFieldKind>("text");
  const [choices, setChoices] = useState("");
  const [going, setGoing] = useState<string>();
  const after = () => queries.invalidateQueries({ queryKey: ["customers"] });
  const add = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/v1/customers/{id}/fields", {
          params: { path: { id: customer.id } },
          body: {
            name,
            kind,
            choices:
              kind === "choice"
                ? choices
                    .split(",")
                    .map((c) => c.trim())
                    .filter(Boolean)
                : null,
          },
        }),
      ),
    onSuccess: async () => {
      setName("");
      setChoices("");
      await after();
    },
  });
  const remove = useMutation({
    mutationFn: (fieldId: string) =>
      ask(api.DELETE("/api/v1/customers/{id}/fields/{fieldId}", { params: { path: { id: customer.id, fieldId } } })),
    onSuccess: async () => {
      setGoing(undefined);
      await after();
    },
  });
  return (
    <section aria-label={`Own fields of ${customer.name}`} className="stack">
      <h3>Fields of its own</h3>
      {customer.fields.length === 0 && (
        <p className="muted">None yet. A field stands on every host of this customer.</p>
      )}
      {customer.fields.map((f) => (
        <div key={f.id} className="field-line">
          <b>{f.name}</b>
          <span className="muted">
            {kinds.find((k) => k.value === f.kind)?.label}
            {f.choices.length > 0 && `: ${f.choices.join(", ")}`}
          </span>
          {going === f.id ? (
            <Button
              size="compact-sm"
              variant="filled"
              onClick={() => remove.mutate(f.id)}
              loading={remove.isPending}
              autoFocus
            >
              Remove {f.name} with all its values
            </Button>
          ) : (
            <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setGoing(f.id)}>
              Remove {f.name}
            </Button>
          )}
        </div>
      ))}
      <form
        className="field-form"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <TextInput
          label="New field"
          placeholder="Contract ends"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
        />
        <Select
          label="Holds"
          data={kinds}
          value={kind}
          allowDeselect={false}
          onChange={(v) => setKind(v as OwnFieldKind)}
        />
        {kind === "choice" && (
          <TextInput
            label="The list"
            placeholder="one, two, three"
            value={choices}
            onChange={(e) => setChoices(e.currentTarget.value)}
          />
        )}
        <Button
          type="submit"
          variant="default"
          disabled={!name.trim()}
          title={name.trim() ? undefined : "Give the field a name first"}
          loading={add.isPending}
        >
          Add the field
        </Button>
      </form>
      <Trouble error={add.error ?? remove.error} />
    </section>
  );
}
