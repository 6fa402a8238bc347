import { Button, Menu, Modal, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { useMay } from "../access/useMay";
import { WhyNot } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { HostOutlook, HostSummary } from "../api/types";
import { MaintenanceEditor } from "../health/MaintenanceEditor";
import { Trouble } from "../parts/Trouble";
import { colours, colourWords, customerOf } from "./emblem";
import { Emblem } from "./Emblem";
import { groupChoices, useGroups } from "./useGroups";
import { readable } from "./hostList";
import { useEstate, useHostOptions } from "./useEstate";
import { useMarks, useSetMark } from "./useMarks";

type Act = "move" | "maintain" | "retire" | "merge";

/** What can be done with a host itself: pin and colour it for oneself, move it, take it out of care, put it together with another. */
export function HostActs({ host }: { host: HostSummary }) {
  const mark = useMarks().get(host.id);
  const set = useSetMark(host.id);
  const queries = useQueryClient();
  const [act, setAct] = useState<Act>();
  const may = useMay(host.groupPath);
  const restore = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/hosts/{id}/restore", { params: { path: { id: host.id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["timeline", host.id] }),
  });
  return (
    <span className="host-acts">
      <Button
        size="compact-sm"
        variant="default"
        aria-pressed={mark?.pinned ?? false}
        onClick={() => set.mutate({ pinned: !mark?.pinned })}
      >
        {mark?.pinned ? "◆ Pinned" : "◇ Pin"}
      </Button>
      <Menu position="bottom-end" shadow="md" width={may("configure") ? undefined : 340}>
        <Menu.Target>
          <Button size="compact-sm" variant="default">
            {host.retiredAt ? "Retired" : "More"}
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Label>My colour for it</Menu.Label>
          <div className="swatches" role="group" aria-label="My colour for it">
            {colourWords.map((word) => (
              <button
                key={word}
                type="button"
                role="menuitemcheckbox"
                className="swatch"
                style={{ background: colours[word]?.[0] }}
                aria-label={word}
                aria-checked={mark?.colour === word}
                title={word}
                onClick={() => set.mutate({ colour: mark?.colour === word ? "" : word })}
              />
            ))}
          </div>
          <Menu.Divider />
          {may("configure") ? (
            <>
              <Menu.Item onClick={() => setAct("move")}>Move {host.label} …</Menu.Item>
              <Menu.Item onClick={() => setAct("maintain")}>Maintenance of {host.label} …</Menu.Item>
              <Menu.Item onClick={() => setAct("merge")}>Put it together with another entry …</Menu.Item>
              {host.retiredAt ? (
                <Menu.Item onClick={() => restore.mutate()}>Restore {host.label}</Menu.Item>
              ) : (
                <Menu.Item onClick={() => setAct("retire")}>Retire {host.label} …</Menu.Item>
              )}
            </>
          ) : (
            <Menu.Label>
              <WhyNot permission="configure" at={{ host: host.id }} />
            </Menu.Label>
          )}
        </Menu.Dropdown>
      </Menu>
      <Trouble error={set.error ?? restore.error} />
      {act === "move" && <MoveDialog host={host} onClose={() => setAct(undefined)} />}
      {act === "maintain" && (
        <MaintenanceEditor host={host} groups={[]} mayEverywhere={false} onClose={() => setAct(undefined)} />
      )}
      {act === "retire" && <RetireDialog host={host} onClose={() => setAct(undefined)} />}
      {act === "merge" && <MergeDialog host={host} onClose={() => setAct(undefined)} />}
    </span>
  );
}

function Title({ host, what }: { host: HostSummary; what: string }) {
  return (
    <span className="whose">
      <Emblem customer={customerOf(host.groupPath)} size={22} />
      {what} {host.label} of {customerOf(host.groupPath)}
    </span>
  );
}

function MoveDialog({ host, onClose }: { host: HostSummary; onClose: () => void }) {
  const { groups, error: groupsError } = useGroups();
  const queries = useQueryClient();
  const [group, setGroup] = useState<string | null>(null);
  const move = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/v1/hosts/edits", {
          body: {
            selection: null,
            hostIds: [host.id],
            groupPath: group,
            addTags: null,
            removeTags: null,
            own: null,
            preview: false,
          },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["host", host.id] });
      await queries.invalidateQueries({ queryKey: ["timeline", host.id] });
      onClose();
    },
  });
  return (
    <Modal opened onClose={onClose} title={<Title host={host} what="Move" />} size="lg">
      <div className="stack">
        <Select
          label="Where to"
          description={`It stands in ${readable(host.groupPath)}`}
          searchable
          data-autofocus
          data={groupChoices(groups)}
          value={group}
          onChange={setGroup}
        />
        <Trouble error={groupsError ?? move.error} />
        <Button
          variant="filled"
          disabled={!group}
          title={group ? undefined : "Choose a group first"}
          loading={move.isPending}
          onClick={() => move.mutate()}
        >
          {group ? `Move ${host.label} to ${readable(group)}` : `Move ${host.label}`}
        </Button>
      </div>
    </Modal>
  );
}

function RetireDialog({ host, onClose }: { host: HostSummary; onClose: () => void }) {
  const [reason, setReason] = useState("");
  const path = { path: { id: host.id } };
  const outlook = useQuery({
    queryKey: ["retire", host.id],
    queryFn: () =>
      ask(
        api.POST("/api/v1/hosts/{id}/retire", { params: path, body: { preview: true, reason: null } }),
      ) as Promise<HostOutlook>,
    staleTime: 0,
  });
  const queries = useQueryClient();
  const retire = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/v1/hosts/{id}/retire", { params: path, body: { preview: false, reason: reason || null } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["timeline", host.id] });
      onClose();
    },
  });
  return (
    <Modal opened onClose={onClose} title={<Title host={host} what="Retire" />} size="lg">
      <div className="stack">
        <Says outlook={outlook.data} />
        <TextInput
          label="Why, for its time line"
          data-autofocus
          value={reason}
          onChange={(e) => setReason(e.currentTarget.value)}
        />
        <Trouble error={outlook.error ?? retire.error} />
        <Button variant="filled" loading={retire.isPending} onClick={() => retire.mutate()}>
          Retire {host.label} of {customerOf(host.groupPath)}
        </Button>
      </div>
    </Modal>
  );
}

function MergeDialog({ host, onClose }: { host: HostSummary; onClose: () => void }) {
  const { hosts } = useEstate();
  const navigate = useNavigate();
  const [into, setInto] = useState<string | null>(null);
  const [sure, setSure] = useState("");
  const path = { path: { id: host.id } };
  const outlook = useQuery({
    queryKey: ["merge", host.id, into],
    queryFn: () =>
      ask(
        api.POST("/api/v1/hosts/{id}/merge", { params: path, body: { into: into ?? "", preview: true } }),
      ) as Promise<HostOutlook>,
    enabled: into !== null,
    retry: false,
    staleTime: 0,
  });
  const merge = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/v1/hosts/{id}/merge", { params: path, body: { into: into ?? "", preview: false } })),
    onSuccess: () => navigate(`/hosts/${into ?? ""}`),
  });
  const all = useHostOptions();
  const others = useMemo(() => all.filter((o) => o.value !== host.id), [all, host.id]);
  const ready = outlook.data !== undefined && sure === host.label;
  return (
    <Modal opened onClose={onClose} title={<Title host={host} what="Put together" />} size="lg">
      <div className="stack">
        <Select
          label="The entry that stays"
          searchable
          limit={50}
          data-autofocus
          data={others}
          value={into}
          onChange={setInto}
        />
        <Says outlook={outlook.data} />
        <Trouble error={outlook.error ?? merge.error} />
        {outlook.data && (
          <TextInput
            label={`This can’t be undone. Type ${host.label} to go on`}
            value={sure}
            onChange={(e) => setSure(e.currentTarget.value)}
          />
        )}
        <Button
          variant="filled"
          disabled={!ready}
          title={ready ? undefined : into ? `Type ${host.label} first` : "Choose the entry that stays first"}
          loading={merge.isPending}
          onClick={() => merge.mutate()}
        >
          Put {host.label} of {customerOf(host.groupPath)} into {(into && hosts.get(into)?.label) ?? "another entry"}
        </Button>
      </div>
    </Modal>
  );
}

function Says({ outlook }: { outlook: HostOutlook | undefined }) {
  return (
    outlook && (
      <ul className="says">
        {outlook.says.map((s) => (
          <li key={s}>{s}</li>
        ))}
      </ul>
    )
  );
}
