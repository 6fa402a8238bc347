import { Button } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, ask } from "../api/client";
import type { HostDetail } from "../api/types";
import { PolicyPanel } from "../access/PolicyPanel";
import { SecretsPanel } from "../access/SecretsPanel";
import { DesktopPanel } from "../desktop/DesktopPanel";
import { FilesPanel } from "../files/FilesPanel";
import { AlertsPanel } from "../health/AlertsPanel";
import { HealthPanel } from "../health/HealthPanel";
import { CommandPanel } from "../jobs/CommandPanel";
import { JobList } from "../jobs/JobList";
import { LogPanel } from "../jobs/LogPanel";
import { PowerPanel } from "../jobs/PowerPanel";
import { ProcessPanel } from "../jobs/ProcessPanel";
import { ServicePanel } from "../jobs/ServicePanel";
import { Ago } from "../parts/Ago";
import { span } from "../parts/time";
import { Empty } from "../parts/Trouble";
import { ShellPanel } from "../shell/ShellPanel";
import { Emblem } from "./Emblem";
import { customerOf } from "./emblem";
import { FactsPanel } from "./FactsPanel";
import { HostActs } from "./HostActs";
import { readable } from "./hostList";
import { OrderPanel } from "./OrderPanel";
import { OwnColour } from "./OwnColour";
import { Presence } from "./Presence";
import { TimelinePanel } from "./TimelinePanel";
import { useEmblems } from "./useCustomers";
import { useEstate } from "./useEstate";
import { useMarks } from "./useMarks";

const panels = [
  "Alerts",
  "Health",
  "Desktop",
  "Command",
  "Shell",
  "Power",
  "Processes",
  "Services",
  "Logs",
  "Files",
  "Notes",
  "Facts",
  "Policy",
  "Secrets",
  "Jobs",
  "Time line",
] as const;
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
  const emblems = useEmblems();
  const mine = useMarks().get(id);
  const queries = useQueryClient();
  const wanted = useSearchParams()[0].get("panel");
  const there = detail.data !== undefined;
  useEffect(() => {
    // Noted once for each visit: quick find puts what was opened lately first.
    if (there) {
      void ask(api.POST("/api/v1/hosts/{id}/opened", { params: { path: { id } } }))
        .then(() => queries.invalidateQueries({ queryKey: ["marks"] }))
        .catch(() => undefined);
    }
  }, [id, there, queries]);
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
      <div className="identity" style={{ "--edge": emblems(customer).field } as React.CSSProperties}>
        <h1>
          {host.label}
          <OwnColour mark={mine} />
        </h1>
        <span className="mono muted">{host.systemName}</span>
        <span className="whose">
          <Emblem customer={customer} size={24} />
          <Link to={`/hosts?scope=${encodeURIComponent(host.groupPath)}`}>{readable(host.groupPath)}</Link>
        </span>
        {host.retiredAt ? (
          <b className="warning">
            retired <Ago time={host.retiredAt} />
          </b>
        ) : (
          <Presence presence={host.presence} />
        )}
        <span className="muted">
          {host.users.length > 0 ? `logged in: ${host.users.join(", ")}` : "nobody logged in"}
          {host.users.length > 0 && idleWords(detail.data?.latestSample?.idleSeconds)}
        </span>
        {host.presence.state !== "linked" && (
          <span className="muted">
            last seen <Ago time={host.lastSeenAt} />
          </span>
        )}
        <HostActs host={host} />
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
        {/* A terminal of eighty columns needs the whole width. */}
        {(open.has("Shell") || wanted === "shell") && (
          <ShellPanel key={`shell ${id}`} host={host} autoFocus={wanted === "shell"} />
        )}
        {/* Two columns that fill up by themselves: a short panel leaves no hole beside a long one. */}
        <div className="panels">
          <div className="stack">
            {open.has("Alerts") && <AlertsPanel host={host} />}
            {open.has("Health") && <HealthPanel hostId={id} label={host.label} latest={detail.data?.latestSample} />}
            {open.has("Facts") && detail.data && (
              <FactsPanel
                host={{ ...detail.data, summary: { ...detail.data.summary, ...host } as HostDetail["summary"] }}
              />
            )}
          </div>
          <div className="stack">
            {open.has("Desktop") && <DesktopPanel key={`desktop ${id}`} host={host} />}
            {(open.has("Command") || wanted === "command") && (
              <CommandPanel key={id} host={host} autoFocus={wanted === "command"} />
            )}
            {open.has("Power") && <PowerPanel key={`power ${id}`} host={host} />}
            {open.has("Notes") && detail.data && <OrderPanel key={id} host={detail.data} />}
            {open.has("Jobs") && (
              <section className="panel" aria-labelledby="jobs-title">
                <header>
                  <h2 id="jobs-title">Jobs on {host.label}</h2>
                </header>
                <JobList hostId={id} />
              </section>
            )}
            {open.has("Policy") && <PolicyPanel host={host} />}
            {open.has("Secrets") && <SecretsPanel host={host} />}
            {open.has("Time line") && <TimelinePanel hostId={id} label={host.label} />}
          </div>
        </div>
        {open.has("Processes") && <ProcessPanel key={`processes ${id}`} host={host} />}
        {open.has("Services") && <ServicePanel key={`services ${id}`} host={host} />}
        {open.has("Logs") && <LogPanel key={`logs ${id}`} host={host} />}
        {open.has("Files") && <FilesPanel key={`files ${id}`} host={host} />}
      </main>
    </>
  );
}

/** A minute without a key is nobody gone yet. */
const idleWords = (seconds: number | null | undefined) =>
  seconds != null && seconds >= 60 ? `, idle ${span(seconds * 1000)}` : "";
