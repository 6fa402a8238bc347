import { Button, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { ShelfInfo } from "../api/types";
import { useScoped } from "../estate/useEstate";
import { readable } from "../estate/hostList";
import { useGroups } from "../estate/useGroups";
import { WorkTabs } from "../jobs/WorkTabs";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { bytes } from "../parts/time";
import { useShelfAct, useShelves } from "./shelves";

/** Folders that the service keeps. */
export function ShelvesPage() {
  const me = useMe();
  const mayRead = me?.anywhere.includes("read-files") ?? false;
  const mayWrite = me?.anywhere.includes("write-files") ?? false;
  const { data: shelves, error } = useShelves(mayRead);
  const [making, setMaking] = useState(false);
  const scoped = useScoped();
  return (
    <main className="page">
      <div className="page-head">
        <h1>Shelves</h1>
        <WorkTabs />
        {mayWrite && !making && (
          <Button size="compact-sm" style={{ marginLeft: "auto" }} onClick={() => setMaking(true)}>
            New shelf
          </Button>
        )}
      </div>
      <Trouble error={error} />
      {making && <NewShelf onBack={() => setMaking(false)} />}
      {me && !mayRead && (
        <Empty title="Shelves are for those who may read files">
          None of your grants holds read-files anywhere; whoever administers can change that.
        </Empty>
      )}
      {shelves?.length === 0 && !making && (
        <Empty title="The service keeps no folders yet">
          A shelf is a folder that the service keeps of a group. A twin puts there what lies on a host, turn by turn, or
          brings it from there to other hosts.
        </Empty>
      )}
      {shelves && shelves.length > 0 && (
        <div className="rows">
          <div className="row shelf-row row-head" aria-hidden="true">
            <span>Shelf</span>
            <span>Group</span>
            <span>Files</span>
            <span>Size</span>
            <span>Made</span>
          </div>
          {shelves.map((s) => (
            <Link key={s.id} className="row shelf-row" to={scoped(`/work/shelves/${s.id}`)}>
              <b>{s.name}</b>
              <span>{readable(s.groupPath)}</span>
              <span>{s.files === 1 ? "1 file" : `${s.files} files`}</span>
              <span>{bytes(s.bytes)}</span>
              <span>
                <Ago time={s.createdAt} />
              </span>
            </Link>
          ))}
        </div>
      )}
    </main>
  );
}

function NewShelf({ onBack }: { onBack: () => void }) {
  const [name, setName] = useState("");
  const [groupId, setGroupId] = useState<string | null>(null);
  const { groups } = useGroups();
  const navigate = useNavigate();
  const make = useShelfAct(
    (wish: { name: string; groupId: string }) => ask(api.POST("/api/v1/shelves", { body: wish })) as Promise<ShelfInfo>,
    (made) => void navigate(`/work/shelves/${made.id}`),
  );
  const why = !name.trim() ? "Give it a name first" : !groupId ? "Choose the group that it belongs to" : undefined;
  return (
    <form
      className="shelf-form"
      onSubmit={(e) => {
        e.preventDefault();
        if (groupId && !why) make.mutate({ name: name.trim(), groupId });
      }}
    >
      <TextInput label="Name" value={name} onChange={(e) => setName(e.currentTarget.value)} data-autofocus />
      <Select
        label="Group"
        searchable
        limit={50}
        data={groups.map((g) => ({ value: g.id, label: readable(g.path) }))}
        value={groupId}
        onChange={setGroupId}
        nothingFoundMessage="No group is called so"
      />
      <div className="acts">
        <Button type="submit" disabled={!!why} loading={make.isPending}>
          Make the shelf
        </Button>
        <Button variant="default" onClick={onBack}>
          Back
        </Button>
        <span className="muted" role="status">
          {why ?? "Who may read or write files of hosts in the group may do so on the shelf."}
        </span>
      </div>
      <Trouble error={make.error} />
    </form>
  );
}
