import { Button, FileButton, Modal, Select, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { Locked } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { GroupInfo, HostSummary } from "../api/types";
import { Empty, Trouble } from "../parts/Trouble";
import { Emblem } from "./Emblem";
import { customerOf } from "./emblem";
import { linesOf, treeOf, whyNot, type TreeNode } from "./groupTree";
import { readable } from "./hostList";
import { HostsTabs } from "./HostsTabs";
import { TreeFile } from "./TreeFile";
import { useHostsByName } from "./useEstate";
import { groupChoices, useGroups } from "./useGroups";

type Held = { kind: "group"; group: GroupInfo } | { kind: "host"; host: HostSummary };

/** The tree of customers and groups with their hosts; what is in it is moved by drag, or by keyboard: X takes, V puts. */
export function GroupsPage() {
  const queries = useQueryClient();
  const { groups, known, error } = useGroups();
  const hosts = useHostsByName();
  const [closed, setClosed] = useState<ReadonlySet<string>>(new Set());
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const [held, setHeld] = useState<Held>();
  const [over, setOver] = useState<string>();
  const [said, setSaid] = useState("");
  const [making, setMaking] = useState<{ parent: GroupInfo | undefined }>();
  const [removing, setRemoving] = useState<GroupInfo>();
  const [renaming, setRenaming] = useState<GroupInfo>();
  const list = useRef<HTMLDivElement>(null);
  const me = useMe();

  const tree = useMemo(() => treeOf(groups), [groups]);
  const lines = linesOf(tree, closed);
  const inGroup = useMemo(() => {
    const map = new Map<string, HostSummary[]>();
    for (const h of hosts) {
      if (h.retiredAt) continue;
      const group = map.get(h.groupPath);
      if (group) group.push(h);
      else map.set(h.groupPath, [h]);
    }
    return map;
  }, [hosts]);

  const done = (text: string) => {
    setSaid(text);
    setHeld(undefined);
    void queries.invalidateQueries({ queryKey: ["groups"] });
    void queries.invalidateQueries({ queryKey: ["customers"] });
  };
  const move = useMutation({
    mutationFn: ({ what, to }: { what: Held; to: GroupInfo }) =>
      what.kind === "group"
        ? ask(
            api.PATCH("/api/v1/groups/{id}", {
              params: { path: { id: what.group.id } },
              headers: { "If-Match": `"${what.group.version}"` },
              body: { name: null, parentPath: to.path },
            }),
          ).then(() => undefined)
        : ask(
            api.POST("/api/v1/hosts/edits", {
              body: {
                selection: null,
                hostIds: [what.host.id],
                groupPath: to.path,
                addTags: null,
                removeTags: null,
                own: null,
                preview: false,
              },
            }),
          ).then(() => undefined),
    onSuccess: (_, { what, to }) =>
      done(`${what.kind === "group" ? what.group.name : what.host.label} now stands in ${readable(to.path)}.`),
    onError: () => queries.invalidateQueries({ queryKey: ["groups"] }),
  });

  const refusal = (what: Held, to: GroupInfo) =>
    what.kind === "group"
      ? whyNot(what.group, to)
      : what.host.groupPath === to.path
        ? `${what.host.label} stands there already`
        : undefined;
  const put = (to: GroupInfo) => {
    if (!held) return;
    const why = refusal(held, to);
    if (why) setSaid(`${why}.`);
    else move.mutate({ what: held, to });
  };
  const flip = (set: ReadonlySet<string>, id: string) => {
    const next = new Set(set);
    if (!next.delete(id)) next.add(id);
    return next;
  };
  const onKeyDown = (e: React.KeyboardEvent, take: Held, group: GroupInfo) => {
    if (e.target !== e.currentTarget) return;
    const items = [...(list.current?.querySelectorAll<HTMLElement>("[data-line]") ?? [])];
    const at = items.indexOf(e.currentTarget as HTMLElement);
    const key = e.key.toLowerCase();
    if (key === "arrowdown" || key === "arrowup") {
      e.preventDefault();
      items[at + (key === "arrowdown" ? 1 : -1)]?.focus();
    } else if (key === "arrowleft" && take.kind === "group") setClosed((s) => new Set(s).add(group.id));
    else if (key === "arrowright" && take.kind === "group") {
      if (closed.has(group.id)) setClosed((s) => flip(s, group.id));
      else setOpen((s) => new Set(s).add(group.id));
    } else if (key === "x") {
      setHeld(take);
      setSaid(
        `${take.kind === "group" ? take.group.name : take.host.label} is taken; go to a group and press V to put it there, Escape to leave it.`,
      );
    } else if (key === "v") put(group);
    else if (key === "escape" && held) {
      setHeld(undefined);
      setSaid("Nothing was moved.");
    }
  };

  const line = (node: TreeNode) => {
    const g = node.group;
    const own = inGroup.get(g.path) ?? [];
    const why = held && refusal(held, g);
    return (
      <div key={g.id}>
        <div
          className={`tree-line${over === g.id && !why ? " target" : ""}${held?.kind === "group" && held.group.id === g.id ? " taken" : ""}`}
          style={{ paddingLeft: 14 + node.depth * 26 }}
          role="treeitem"
          aria-level={node.depth + 1}
          aria-expanded={node.children.length > 0 ? !closed.has(g.id) : undefined}
          aria-selected={held?.kind === "group" && held.group.id === g.id}
          aria-label={`${g.name}, ${node.hosts} ${node.hosts === 1 ? "host" : "hosts"}`}
          tabIndex={0}
          data-line={g.path}
          draggable={node.depth > 0}
          onDragStart={(e) => {
            e.dataTransfer.setData("text/plain", g.path);
            setHeld({ kind: "group", group: g });
          }}
          onDragEnd={() => {
            setHeld(undefined);
            setOver(undefined);
          }}
          onDragOver={(e) => {
            if (held && !why) {
              e.preventDefault();
              setOver(g.id);
            }
          }}
          onDragLeave={() => setOver(undefined)}
          onDrop={(e) => {
            e.preventDefault();
            setOver(undefined);
            put(g);
          }}
          onKeyDown={(e) => onKeyDown(e, { kind: "group", group: g }, g)}
        >
          <button
            type="button"
            className="twist"
            tabIndex={-1}
            aria-hidden="true"
            disabled={node.children.length === 0}
            title={node.children.length === 0 ? "No group below" : undefined}
            onClick={() => setClosed((s) => flip(s, g.id))}
          >
            {node.children.length === 0 ? "·" : closed.has(g.id) ? "▸" : "▾"}
          </button>
          {node.depth === 0 && <Emblem customer={g.name} size={20} />}
          <b>{g.name}</b>
          <button type="button" className="plain muted" tabIndex={-1} onClick={() => setOpen((s) => flip(s, g.id))}>
            {own.length > 0
              ? `${own.length} ${own.length === 1 ? "host" : "hosts"} ${open.has(g.id) ? "▾" : "▸"}`
              : node.hosts > 0
                ? `${node.hosts} below`
                : "empty"}
          </button>
          <span className="tree-acts">
            {!g.may.includes("configure") && (
              <Locked permission="configure" at={{ group: g.id }}>
                Change
              </Locked>
            )}
            {g.may.includes("configure") && (
              <>
                <Button size="compact-xs" variant="subtle" color="gray" onClick={() => setMaking({ parent: g })}>
                  New group in {g.name}
                </Button>
                <Button size="compact-xs" variant="subtle" color="gray" onClick={() => setRenaming(g)}>
                  Rename
                </Button>
                <Button size="compact-xs" variant="subtle" color="gray" onClick={() => setRemoving(g)}>
                  Remove
                </Button>
              </>
            )}
          </span>
        </div>
        {open.has(g.id) &&
          own.map((h) => (
            <div
              key={h.id}
              className={`tree-line tree-host${held?.kind === "host" && held.host.id === h.id ? " taken" : ""}`}
              style={{ paddingLeft: 44 + node.depth * 26 }}
              role="treeitem"
              aria-level={node.depth + 2}
              aria-selected={held?.kind === "host" && held.host.id === h.id}
              aria-label={h.label}
              tabIndex={0}
              data-line={h.id}
              draggable
              onDragStart={(e) => {
                e.dataTransfer.setData("text/plain", h.label);
                setHeld({ kind: "host", host: h });
              }}
              onDragEnd={() => setHeld(undefined)}
              onKeyDown={(e) => onKeyDown(e, { kind: "host", host: h }, g)}
            >
              <Link to={`/hosts/${h.id}`} tabIndex={-1}>
                {h.label}
              </Link>
              {h.label !== h.systemName && <span className="mono muted">{h.systemName}</span>}
            </div>
          ))}
      </div>
    );
  };

  return (
    <main className="page">
      <div className="page-head">
        <h1>Groups</h1>
        <HostsTabs />
        <span className="acts" style={{ marginLeft: "auto" }}>
          <TreeFile button={FileButton} onDone={() => done("Imported.")} />
          {me?.everywhere.includes("configure") && (
            <Button variant="filled" size="sm" onClick={() => setMaking({ parent: undefined })}>
              New customer
            </Button>
          )}
        </span>
      </div>
      <p className="muted">
        Drag groups and hosts where they belong. By keyboard: arrows go through the tree, X takes, V puts.
      </p>
      <p role="status" className="tree-said">
        {said}
      </p>
      <Trouble error={error ?? move.error} />
      {me && !me.everywhere.includes("configure") && (
        <p className="muted">
          A new customer takes the permission to configure everything, which none of your grants holds.
        </p>
      )}
      {known && groups.length === 0 ? (
        <Empty title="No customer yet">Make the first one; its groups and hosts come below it.</Empty>
      ) : (
        <div className="tree" role="tree" aria-label="Customers and groups" ref={list}>
          {lines.map(line)}
        </div>
      )}
      {making && <NewGroup parent={making.parent} onClose={() => setMaking(undefined)} onDone={done} />}
      {renaming && <Rename group={renaming} onClose={() => setRenaming(undefined)} onDone={done} />}
      {removing && (
        <Remove
          group={removing}
          hosts={lines.find((n) => n.group.id === removing.id)?.hosts ?? 0}
          groups={groups}
          onClose={() => setRemoving(undefined)}
          onDone={done}
        />
      )}
    </main>
  );
}

interface DialogProps {
  onClose: () => void;
  onDone: (said: string) => void;
}

function NewGroup({ parent, onClose, onDone }: DialogProps & { parent: GroupInfo | undefined }) {
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/groups", { body: { name, parentPath: parent?.path ?? null } })),
    onSuccess: (made) => {
      onClose();
      onDone(`${readable(made.path)} is made.`);
    },
  });
  return (
    <NameDialog
      title={parent ? `New group in ${readable(parent.path)}` : "New customer"}
      act={parent ? "Make the group" : "Make the customer"}
      name={name}
      setName={setName}
      onClose={onClose}
      onSubmit={() => make.mutate()}
      busy={make.isPending}
      error={make.error}
    />
  );
}

function Rename({ group, onClose, onDone }: DialogProps & { group: GroupInfo }) {
  const [name, setName] = useState(group.name);
  const rename = useMutation({
    mutationFn: () =>
      ask(
        api.PATCH("/api/v1/groups/{id}", {
          params: { path: { id: group.id } },
          headers: { "If-Match": `"${group.version}"` },
          body: { name, parentPath: null },
        }),
      ),
    onSuccess: (after) => {
      onClose();
      onDone(`${group.name} is now called ${after.name}.`);
    },
  });
  return (
    <NameDialog
      title={`Rename ${readable(group.path)}`}
      act={`Rename ${group.name}`}
      name={name}
      setName={setName}
      onClose={onClose}
      onSubmit={() => rename.mutate()}
      busy={rename.isPending}
      error={rename.error}
    />
  );
}

function NameDialog({
  title,
  act,
  name,
  setName,
  onClose,
  onSubmit,
  busy,
  error,
}: {
  title: string;
  act: string;
  name: string;
  setName: (name: string) => void;
  onClose: () => void;
  onSubmit: () => void;
  busy: boolean;
  error: unknown;
}) {
  return (
    <Modal opened onClose={onClose} title={title}>
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          onSubmit();
        }}
      >
        <TextInput label="Name" data-autofocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <Trouble error={error} />
        <Button
          type="submit"
          variant="filled"
          loading={busy}
          disabled={!name.trim()}
          title={name.trim() ? undefined : "Write a name first"}
        >
          {act}
        </Button>
      </form>
    </Modal>
  );
}

function Remove({
  group,
  hosts,
  groups,
  onClose,
  onDone,
}: DialogProps & { group: GroupInfo; hosts: number; groups: GroupInfo[] }) {
  const [to, setTo] = useState<string | null>(null);
  const remove = useMutation({
    mutationFn: () =>
      ask(
        api.DELETE("/api/v1/groups/{id}", {
          params: { path: { id: group.id }, query: to ? { hostsTo: to } : {} },
        }),
      ),
    onSuccess: () => {
      onClose();
      onDone(`${readable(group.path)} is removed.`);
    },
  });
  const others = groups.filter((g) => g.path !== group.path && !g.path.startsWith(`${group.path}/`));
  const below = groups.filter((g) => g.path.startsWith(`${group.path}/`)).length;
  return (
    <Modal opened onClose={onClose} title={`Remove ${readable(group.path)}`} size="lg">
      <div className="stack">
        <p style={{ margin: 0 }}>
          {group.parentId ? "The group" : `The customer ${customerOf(group.path)}, its contact, notes and own fields,`}
          {below > 0 && ` with the ${below} ${below === 1 ? "group" : "groups"} below`} and its installers go. This
          can’t be undone.
        </p>
        {hosts > 0 && (
          <Select
            label={`Where ${hosts === 1 ? "the one host" : `the ${hosts} hosts`} in it go`}
            searchable
            data={groupChoices(others)}
            value={to}
            onChange={setTo}
          />
        )}
        <Trouble error={remove.error} />
        <Button
          variant="filled"
          disabled={hosts > 0 && !to}
          title={hosts > 0 && !to ? "Say where the hosts go first" : undefined}
          loading={remove.isPending}
          onClick={() => remove.mutate()}
        >
          Remove {readable(group.path)}
        </Button>
      </div>
    </Modal>
  );
}
