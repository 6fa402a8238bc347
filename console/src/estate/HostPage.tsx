import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask } from "../api/client";
import type { HostDetail } from "../api/types";
import { HealthPanel } from "../health/HealthPanel";
import { CommandPanel } from "../jobs/CommandPanel";
import { JobList } from "../jobs/JobList";
import { Ago } from "../parts/Ago";
import { Empty } from "../parts/Trouble";
import { Emblem } from "./Emblem";
import { customerOf, emblemOf } from "./emblem";
import { FactsPanel } from "./FactsPanel";
import { readable } from "./hostList";
import { Presence } from "./Presence";
import { useEstate } from "./useEstate";

const panels = ["Health", "Command", "Facts", "Jobs"] as const;
type Panel = (typeof panels)[number];
const KEPT_AS = "umbrek.bench";

function usePanels(): [ReadonlySet<Panel>, (panel: Panel) => void] {
  const [open, setOpen] = useState<ReadonlySet<Panel>>(() => {
    const kept = localStorage.getItem(KEPT_AS)?.split(",");
    return new Set(kept ? panels.filter((p) => kept.includes(p)) : panels);
  });
  return [
    open,
    (panel) => {
      const next = new Set(open);
      if (!next.delete(panel)) next.add(panel);
      localStorage.setItem(KEPT_AS, [...next].join(","));
      setOpen(next);
    },
  ];
}

/** The bench: one host, whose identity never leaves the screen, and the panels opened beside each other. */
export function HostPage() {
  const { id = "" } = useParams();
  const live = useEstate().hosts.get(id);
  const detail = useQuery({
    queryKey: ["host", id],
    queryFn: async () => (await ask(api.GET("/api/v1/hosts/{id}", { params: { path: { id } } }))) as HostDetail,
    refetchInterval: 15_000,
  });
  const [open, toggle] = usePanels();
  const host = live ?? detail.data?.summary;
  if (!host) {
    return (
      <main className="page">
        {detail.error ? (
          <Empty title="There is no such host">
            It may have been removed. <Link to="/hosts">All hosts</Link>
          </Empty>
        ) : (
          <Empty title="Asking the service …" />
        )}
      </main>
    );
  }
  const customer = customerOf(host.groupPath);
  return (
    <>
      <div className="identity" style={{ "--edge": emblemOf(customer).field } as React.CSSProperties}>
        <h1>{host.label}</h1>
        <span className="mono muted">{host.systemName}</span>
        <span className="whose">
          <Emblem customer={customer} size={24} />
          <Link to={`/hosts?scope=${encodeURIComponent(host.groupPath)}`}>{readable(host.groupPath)}</Link>
        </span>
        <Presence presence={host.presence} />
        <span className="muted">
          {host.users.length > 0 ? `logged in: ${host.users.join(", ")}` : "nobody logged in"}
        </span>
        {host.presence.state !== "linked" && (
          <span className="muted">
            last seen <Ago time={host.lastSeenAt} />
          </span>
        )}
      </div>
      <main className="page">
        <div className="panel-switches" role="group" aria-label="Panels">
          {panels.map((panel) => (
            <Button
              key={panel}
              size="compact-sm"
              variant={open.has(panel) ? "default" : "subtle"}
              color="gray"
              aria-pressed={open.has(panel)}
              onClick={() => toggle(panel)}
            >
              {panel}
            </Button>
          ))}
        </div>
        <div className="panels">
          {open.has("Health") && <HealthPanel hostId={id} latest={detail.data?.latestSample} />}
          {open.has("Command") && <CommandPanel host={host} />}
          {open.has("Facts") && detail.data && (
            <FactsPanel
              host={{ ...detail.data, summary: { ...detail.data.summary, ...host } as HostDetail["summary"] }}
            />
          )}
          {open.has("Jobs") && (
            <section className="panel" aria-labelledby="jobs-title">
              <header>
                <h2 id="jobs-title">Jobs on {host.label}</h2>
              </header>
              <JobList hostId={id} />
            </section>
          )}
        </div>
      </main>
    </>
  );
}
