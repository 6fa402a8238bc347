import { Button, SegmentedControl, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import type { HostService, HostSummary } from "../api/types";
import { customerOf } from "../estate/emblem";
import { bytes } from "../parts/time";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import type { ViewWord } from "./hostLook";
import { JobAnswer } from "./JobAnswer";
import type { Proof } from "../sessions/useProof";
import { LookPanel } from "./LookPanel";
import { neutralise } from "./output";
import { acts, arrangeServices, startWords, stateWords, whyNot, type Which } from "./services";
import { useHostAct } from "./useHostAct";

const what = {
  kind: "services" as const,
  everySeconds: 10,
  take: (before: HostService[] | undefined, word: ViewWord) => word.services ?? before,
};

/** The services of a host, live. */
export function ServicePanel({ host }: { host: HostSummary }) {
  return (
    <LookPanel host={host} title="Services" what={what}>
      {(services, proof) => <Table host={host} services={services} proof={proof} />}
    </LookPanel>
  );
}

function Table({ host, services, proof }: { host: HostSummary; services: HostService[]; proof: Proof }) {
  const [words, setWords] = useState("");
  const [which, setWhich] = useState<Which>("all");
  const [chosen, setChosen] = useState<string>();
  const shown = arrangeServices(services, words, which);
  const one = services.find((s) => s.name === chosen);
  const failed = services.filter((s) => s.state === "failed").length;
  return (
    <>
      <div className="process-head">
        <TextInput
          aria-label="Find among the services"
          placeholder="Find: name, description"
          value={words}
          onChange={(e) => setWords(e.currentTarget.value)}
          spellCheck={false}
        />
        <SegmentedControl
          aria-label="Which services"
          size="xs"
          value={which}
          onChange={(w) => setWhich(w as Which)}
          data={[
            { value: "all", label: "All" },
            { value: "running", label: "Those that run" },
            { value: "trouble", label: "Trouble" },
          ]}
        />
        <span className="muted">
          {services.length} services, {failed === 0 ? "none has" : failed === 1 ? "1 has" : `${failed} have`} failed
        </span>
      </div>
      <div className="rows process-list service-list" role="group" aria-label={`Services of ${host.label}`}>
        <div className="row service-row row-head" aria-hidden="true">
          <span>Service</span>
          <span>State</span>
          <span>Starts</span>
          <span className="number">Since</span>
          <span className="number">Memory</span>
        </div>
        {shown.map((s) => (
          <button
            key={s.name}
            type="button"
            className="row service-row"
            aria-pressed={s.name === chosen}
            onClick={() => setChosen(s.name)}
          >
            <span className="service-name">
              <b className="mono">{s.name}</b>
              {s.description && <span className="muted"> {neutralise(s.description)}</span>}
            </span>
            <span className={s.state === "failed" ? "trouble" : s.state === "stopped" ? "muted" : ""}>
              {stateWords[s.state]}
            </span>
            <span className="muted">{startWords[s.start]}</span>
            <span className="number muted">{s.since && <Ago time={s.since} />}</span>
            <span className="number">{s.memoryBytes ? bytes(s.memoryBytes) : ""}</span>
          </button>
        ))}
        {shown.length === 0 && <p className="muted service-none">None of the services is such a one.</p>}
      </div>
      {one ? (
        <Acts key={one.name} host={host} service={one} proof={proof} />
      ) : (
        <p className="muted">Choose a service to start or stop it, or to see its log.</p>
      )}
    </>
  );
}

function Acts({ host, service, proof }: { host: HostSummary; service: HostService; proof: Proof }) {
  const make = useHostAct(host, proof);
  const customer = customerOf(host.groupPath);
  return (
    <>
      <div className="acts process-acts" role="group" aria-label={`${service.name} on ${host.label} of ${customer}`}>
        <span>
          <b className="mono">{service.name}</b> on {host.label} of {customer}:
        </span>
        {acts.map(({ act, label }) => {
          const why = whyNot(service, act);
          return (
            <Button
              key={act}
              size="compact-sm"
              variant="default"
              disabled={why !== undefined}
              title={why}
              loading={make.isPending && make.variables.service?.act === act}
              onClick={() => make.mutate({ service: { name: service.name, act } })}
            >
              {label}
            </Button>
          );
        })}
        <Link
          to={`/work/new?program=${encodeURIComponent(service.name)}&act=restart&on=${encodeURIComponent(`in "${customer}"`)}`}
        >
          On more hosts …
        </Link>
      </div>
      <Trouble error={make.error} />
      {make.data && <JobAnswer key={make.data.id} jobId={make.data.id} />}
    </>
  );
}
