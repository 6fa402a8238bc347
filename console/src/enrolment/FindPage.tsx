import { Button, Checkbox, Progress, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { PageNeeds } from "../access/PageNeeds";
import { api, ask } from "../api/client";
import { inScope, readable } from "../estate/hostList";
import { useEstate, useHostsByName, useScope } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { JoinTabs } from "./JoinTabs";
import { NewInstaller } from "./NewInstaller";
import { around, shownFinds, useScan } from "./useScan";

/** Computers without an agent: a host that has one looks around, and what answers stands here as it is found. */
export function FindPage() {
  return (
    <PageNeeds permission="scan" title="Find computers" tabs={<JoinTabs />}>
      <Find />
    </PageNeeds>
  );
}

function Find() {
  const queries = useQueryClient();
  const [scope] = useScope();
  const { hosts } = useEstate();
  const [hostId, setHostId] = useState<string | null>(null);
  const [range, setRange] = useState("");
  const [filter, setFilter] = useState("");
  const [notOurs, setNotOurs] = useState(false);
  const [chosen, setChosen] = useState<string>();
  const [making, setMaking] = useState(false);
  const scans = useQuery({ queryKey: ["scans"], queryFn: () => ask(api.GET("/api/v1/scans")) });
  const shown = chosen ?? scans.data?.items[0]?.id;
  const live = useScan(shown);
  const linked = useHostsByName().filter((h) => h.presence.state === "linked" && inScope(h, scope));
  const start = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/v1/scans", { body: { hostId: hostId ?? "", range, ports: null, probesPerSecond: 100 } })),
    onSuccess: async (made) => {
      setChosen(made?.id);
      await queries.invalidateQueries({ queryKey: ["scans"] });
    },
  });
  const cancel = useMutation({
    mutationFn: (id: string) => ask(api.POST("/api/v1/scans/{id}/cancel", { params: { path: { id } } })),
  });
  const { info } = live;
  const finds = shownFinds(live, filter, notOurs);
  const why = !hostId ? "Choose the host that looks around" : !range ? "Say which addresses" : undefined;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Join</h1>
        <JoinTabs />
      </div>
      <form
        className="panel installer-form"
        style={{ marginBottom: 16 }}
        aria-label="Find computers without an agent"
        onSubmit={(e) => {
          e.preventDefault();
          start.mutate();
        }}
      >
        <Select
          label="Look around from"
          description="A linked host"
          placeholder={linked.length === 0 ? "No host is linked here" : "Choose"}
          data={linked.map((h) => ({ value: h.id, label: h.label }))}
          value={hostId}
          onChange={(id) => {
            setHostId(id);
            setRange((r) => r || around(hosts.get(id ?? "")?.address));
          }}
          searchable
        />
        <TextInput
          label="Addresses"
          description="Like 198.51.100.0/24 or 198.51.100.10-60; at most a /20"
          value={range}
          onChange={(e) => setRange(e.currentTarget.value)}
        />
        <div>
          <Button type="submit" variant="filled" loading={start.isPending} disabled={!!why} title={why}>
            {hostId ? `Look around from ${hosts.get(hostId)?.label}` : "Look around"}
          </Button>
        </div>
        {(start.error || scans.error || cancel.error) && (
          <div className="whole">
            <Trouble error={start.error ?? scans.error ?? cancel.error} />
          </div>
        )}
      </form>
      {making && info && <NewInstaller scope={info.groupPath} onClose={() => setMaking(false)} />}
      {!info ? (
        scans.data?.items.length === 0 && (
          <Empty title="Nobody has looked around yet">Choose a host that stands where new computers may be.</Empty>
        )
      ) : (
        <section aria-labelledby="finds-title">
          <div className="page-head" style={{ marginBottom: 8 }}>
            <h2 id="finds-title">
              {info.range} from {info.hostLabel}
            </h2>
            <span className="muted">
              {info.state === "running" ? `${info.probed} of ${info.total} addresses tried` : info.state}
              {info.problem && `: ${info.problem}`}, {info.found} answer, {info.notOurs} have no agent of ours ·{" "}
              {info.startedBy}, <Ago time={info.startedAt} />
            </span>
            <span style={{ flex: 1 }} />
            {info.state === "running" ? (
              <Button size="compact-sm" variant="default" onClick={() => cancel.mutate(info.id)}>
                End the scan from {info.hostLabel}
              </Button>
            ) : (
              info.notOurs > 0 &&
              !making && (
                <Button size="compact-sm" variant="default" onClick={() => setMaking(true)}>
                  Make an installer for {readable(info.groupPath)}
                </Button>
              )
            )}
          </div>
          {info.state === "running" && (
            <Progress
              value={(100 * info.probed) / Math.max(1, info.total)}
              color="var(--lamp)"
              size="sm"
              mb={8}
              aria-label="How far the scan is"
            />
          )}
          <div className="page-head" style={{ marginBottom: 8, alignItems: "center" }}>
            <TextInput
              size="sm"
              w={260}
              placeholder="Name, address, port or maker"
              aria-label="Show only finds with"
              value={filter}
              onChange={(e) => setFilter(e.currentTarget.value)}
            />
            <Checkbox
              label="Only without an agent of ours"
              checked={notOurs}
              onChange={(e) => setNotOurs(e.currentTarget.checked)}
            />
          </div>
          <div className="rows">
            <div className="row find-row row-head" aria-hidden="true">
              <span>Address</span>
              <span>Name</span>
              <span>Agent</span>
              <span>Open ports</span>
              <span>Hardware</span>
            </div>
            {finds.map((f) => (
              <div className="row find-row" key={f.address}>
                <span className="mono">{f.address}</span>
                <span className="mono">{f.name ?? <span className="muted">no name</span>}</span>
                <span>{f.oursHostId ? <Link to={`/hosts/${f.oursHostId}`}>{f.oursLabel}</Link> : <b>none</b>}</span>
                <span className="mono">{f.openPorts.join(" ")}</span>
                <span>
                  <span className="mono">{f.hardwareAddress}</span> <span className="muted">{f.vendor}</span>
                </span>
              </div>
            ))}
            {finds.length === 0 && <Empty title={live.finds.size === 0 ? "Nothing answered yet" : "Nothing matches"} />}
          </div>
        </section>
      )}
    </main>
  );
}
