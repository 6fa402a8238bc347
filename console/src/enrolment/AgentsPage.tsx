import { Button, NumberInput, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { PageNeeds } from "../access/PageNeeds";
import { api, ask } from "../api/client";
import type { RolloutDetail, RolloutInfo } from "../api/types";
import { inScope, readable } from "../estate/hostList";
import { useEstate, useScope } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { bytes } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { JoinTabs } from "./JoinTabs";
import { updateWords } from "./words";

/** Which agents run where, and updating them in waves. */
export function AgentsPage() {
  return (
    <PageNeeds permission="software" title="Agent updates" tabs={<JoinTabs />}>
      <Agents />
    </PageNeeds>
  );
}

function Agents() {
  const [scope] = useScope();
  const { hosts } = useEstate();
  const releases = useQuery({ queryKey: ["releases"], queryFn: () => ask(api.GET("/api/v1/releases")) });
  const rollouts = useQuery({
    queryKey: ["rollouts"],
    queryFn: () => ask(api.GET("/api/v1/rollouts")),
    refetchInterval: (q) => (q.state.data?.items.some((r) => r.state === "running") ? 1000 : 10_000),
  });
  const newest = releases.data?.items[0]?.version;
  const here = [...hosts.values()].filter((h) => inScope(h, scope));
  const behind = here.filter((h) => newest && h.agentVersion !== newest);
  const [open, setOpen] = useState<string>();
  const shown = open ?? rollouts.data?.items[0]?.id;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Join</h1>
        <JoinTabs />
      </div>
      <Trouble error={releases.error ?? rollouts.error} />
      <div className="panels" style={{ marginBottom: 20 }}>
        <section className="panel" aria-labelledby="versions">
          <header>
            <h2 id="versions">Agent versions{scope && ` in ${readable(scope)}`}</h2>
          </header>
          {behind.length === 0 ? (
            <p style={{ margin: "0 0 10px" }}>
              {newest
                ? `All ${here.length} hosts run the newest agent, ${newest}.`
                : "The service has no agent to give."}
            </p>
          ) : (
            <p style={{ margin: "0 0 10px" }}>
              <b>
                {behind.length} of {here.length}
              </b>{" "}
              {behind.length === 1 ? "host is" : "hosts are"} behind {newest}:{" "}
              {behind.slice(0, 6).map((h, i) => (
                <span key={h.id}>
                  {i > 0 && ", "}
                  <Link to={`/hosts/${h.id}`}>{h.label}</Link> <span className="muted">({h.agentVersion})</span>
                </span>
              ))}
              {behind.length > 6 && ` and ${behind.length - 6} more`}
            </p>
          )}
          <dl className="facts">
            {releases.data?.items.map((r) => (
              <div key={r.version} style={{ display: "contents" }}>
                <dt>{r.version}</dt>
                <dd>
                  {r.hosts === 1 ? "1 host" : `${r.hosts} hosts`}, {bytes(r.size)}, {r.addedBy}
                  {r.newest && <span className="muted"> · newest</span>}
                </dd>
              </div>
            ))}
          </dl>
        </section>
        <NewUpdate
          scope={scope}
          versions={releases.data?.items.map((r) => r.version) ?? []}
          behind={behind.map((h) => h.label)}
          onStarted={setOpen}
        />
      </div>
      {rollouts.data &&
        (rollouts.data.items.length === 0 ? (
          <Empty title="No update yet">What you start stands here, host by host.</Empty>
        ) : (
          <div className="job-split">
            <section aria-label="Updates">
              <div className="rows">
                {rollouts.data.items.map((r) => (
                  <RolloutRow key={r.id} rollout={r} open={r.id === shown} onOpen={() => setOpen(r.id)} />
                ))}
              </div>
            </section>
            {shown && <RolloutPanel key={shown} id={shown} />}
          </div>
        ))}
    </main>
  );
}

function NewUpdate(props: {
  scope: string;
  versions: string[];
  behind: string[];
  onStarted: (id: string | undefined) => void;
}) {
  const queries = useQueryClient();
  const suggested =
    props.behind.length > 0 && props.behind.length <= 8
      ? props.behind.map((l) => `"${l}"`).join(" or ")
      : props.scope
        ? `in "${props.scope}"`
        : "all";
  const [typed, setTyped] = useState<string>();
  const [version, setVersion] = useState<string | null>(null);
  const [waves, setWaves] = useState("1, 10%, rest");
  const [failures, setFailures] = useState<string | number>(0);
  const selection = typed ?? suggested;
  const to = version ?? props.versions[0];
  const start = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/v1/rollouts", {
          body: {
            selection,
            version: to ?? null,
            waves,
            failuresAllowed: Number(failures) || 0,
            returnWithinSeconds: 300,
          },
        }),
      ),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["rollouts"] });
      props.onStarted(made?.info.id);
    },
  });
  return (
    <section className="panel" aria-labelledby="new-update">
      <header>
        <h2 id="new-update">Update agents</h2>
      </header>
      <form
        className="installer-form"
        onSubmit={(e) => {
          e.preventDefault();
          start.mutate();
        }}
      >
        <TextInput
          className="whole"
          label="Hosts"
          description="A selection; hosts that have the version already are passed over"
          value={selection}
          onChange={(e) => setTyped(e.currentTarget.value)}
          required
        />
        <Select
          label="To version"
          data={props.versions}
          value={to ?? null}
          onChange={setVersion}
          allowDeselect={false}
        />
        <TextInput
          label="Waves"
          description="Each begins when the one before is back"
          value={waves}
          onChange={(e) => setWaves(e.currentTarget.value)}
        />
        <NumberInput label="Stops after more failures than" min={0} value={failures} onChange={setFailures} />
        <div className="whole">
          <Button
            type="submit"
            variant="filled"
            loading={start.isPending}
            disabled={!to}
            title={to ? undefined : "The service has no agent to give; add a release first"}
          >
            {to ? `Update to ${to}` : "Update"}
          </Button>
        </div>
      </form>
      <Trouble error={start.error} />
    </section>
  );
}

function RolloutRow({ rollout, open, onOpen }: { rollout: RolloutInfo; open: boolean; onOpen: () => void }) {
  return (
    <button type="button" className="row rollout-row" aria-pressed={open} onClick={onOpen}>
      <span>
        <b>{rollout.version}</b> <span className="muted">on {rollout.selection}</span>
      </span>
      <span>
        {rollout.state === "running" ? `wave ${rollout.wave} of ${rollout.waves}` : rollout.state}, {rollout.updated} of{" "}
        {rollout.hosts} updated
      </span>
      <span className="muted">
        {rollout.createdBy}, <Ago time={rollout.createdAt} />
      </span>
    </button>
  );
}

function RolloutPanel({ id }: { id: string }) {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["rollouts", id],
    queryFn: () => ask(api.GET("/api/v1/rollouts/{id}", { params: { path: { id } } })),
    refetchInterval: (q) => ((q.state.data as RolloutDetail | undefined)?.info.state === "running" ? 1000 : false),
  });
  const cancel = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/rollouts/{id}/cancel", { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["rollouts"] }),
  });
  const detail = found.data as RolloutDetail | undefined;
  if (!detail) return <Trouble error={found.error} />;
  return (
    <section className="panel" aria-labelledby="rollout-title">
      <header>
        <h2 id="rollout-title">
          Update to {detail.info.version}: {detail.info.state}
        </h2>
        {detail.info.state === "running" && (
          <Button size="compact-sm" variant="default" loading={cancel.isPending} onClick={() => cancel.mutate()}>
            Cancel the update to {detail.info.version}
          </Button>
        )}
      </header>
      {detail.info.reason && <p className="trouble">{detail.info.reason}</p>}
      <Trouble error={cancel.error} />
      <div className="rows">
        {detail.hosts.map((h) => (
          <div className="row rollout-host" key={h.hostId}>
            <span className="muted">wave {h.wave}</span>
            <Link to={`/hosts/${h.hostId}`}>{h.label}</Link>
            <span className={h.state === "failed" || h.state === "went-back" ? "trouble" : ""}>
              {updateWords(h.state)}
            </span>
            <span className="muted">{h.reason}</span>
          </div>
        ))}
      </div>
    </section>
  );
}
