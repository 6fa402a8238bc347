import { Button } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { Fact, HostDetail } from "../api/types";
import { Ago } from "../parts/Ago";
import { bytes, exact } from "../parts/time";
import { Trouble } from "../parts/Trouble";

const named: [string, string][] = [
  ["os.name", "System"],
  ["os.kernel", "Kernel"],
  ["os.architecture", "Architecture"],
  ["hardware.vendor", "Maker"],
  ["hardware.model", "Model"],
  ["processor.model", "Processor"],
  ["processor.count", "Processors"],
  ["memory.total", "Memory"],
  ["storage.disks", "Storage"],
  ["network.addresses", "Addresses"],
  ["boot.time", "Started"],
  ["users.logged-in", "Logged in"],
  ["agent.version", "Agent"],
  ["host.machine-id", "Machine id"],
];

export function factText(fact: Fact): string {
  const value: unknown = fact.value;
  if (fact.name === "memory.total" && typeof value === "number") return bytes(value);
  if (fact.name === "boot.time" && typeof value === "string") return exact(value);
  if (fact.name === "storage.disks" && Array.isArray(value)) {
    return value
      .map((disk) => {
        const words = String(disk).split(" ");
        const size = Number(words.pop());
        return `${words.join(" ")} ${bytes(size)}`;
      })
      .join("\n");
  }
  if (Array.isArray(value)) return value.length === 0 ? "none" : value.map(String).join("\n");
  return String(value);
}

export function FactsPanel({ host }: { host: HostDetail }) {
  const queries = useQueryClient();
  const refresh = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/hosts/{id}/refresh", { params: { path: { id: host.summary.id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["host", host.summary.id] }),
  });
  const byName = new Map(host.facts.map((f) => [f.name, f]));
  const linked = host.summary.presence.state === "linked";
  return (
    <section className="panel" aria-labelledby="facts-title">
      <header>
        <h2 id="facts-title">Facts</h2>
        <Button
          size="compact-sm"
          variant="default"
          onClick={() => refresh.mutate()}
          loading={refresh.isPending}
          disabled={!linked}
          title={linked ? undefined : `${host.summary.label} is away; these are the last facts known of it`}
        >
          {linked ? "Ask again now" : "Away: last known facts"}
        </Button>
      </header>
      <Trouble error={refresh.error} />
      {host.facts.length === 0 && <p className="muted">This host has reported no facts yet.</p>}
      <dl className="facts">
        {named.map(([name, word]) => {
          const fact = byName.get(name);
          return (
            fact && (
              <div key={name} style={{ display: "contents" }}>
                <dt>{word}</dt>
                <dd style={{ whiteSpace: "pre-line" }} title={`learnt ${exact(fact.learntAt)}`}>
                  {factText(fact)}
                </dd>
              </div>
            )
          );
        })}
        <dt>Enrolled</dt>
        <dd>
          <Ago time={host.enrolledAt} />
        </dd>
      </dl>
    </section>
  );
}
