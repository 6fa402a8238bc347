import { Button, Checkbox, Modal, NumberInput, TextInput } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import type { HostProcess, HostSummary } from "../api/types";
import { customerOf } from "../estate/emblem";
import { whole } from "../parts/number";
import { bytes, span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import type { ViewWord } from "./hostLook";
import { JobAnswer } from "./JobAnswer";
import type { Proof } from "../sessions/useProof";
import { LookPanel } from "./LookPanel";
import { neutralise } from "./output";
import { apply, arrange, markOf, used, type Column, type Reading } from "./processes";
import { useHostAct } from "./useHostAct";

const columns: { column: Column; title: string; number?: boolean }[] = [
  { column: "pid", title: "Number", number: true },
  { column: "user", title: "User" },
  { column: "processor", title: "Processor", number: true },
  { column: "memory", title: "Memory", number: true },
  { column: "used", title: "Used", number: true },
  { column: "niceness", title: "Nice", number: true },
  { column: "started", title: "Since", number: true },
  { column: "name", title: "Command line" },
];

const what = {
  kind: "processes" as const,
  everySeconds: 2,
  take: (before: Reading | undefined, word: ViewWord) => (word.changes ? apply(before, word.changes) : before),
};

/** The processes of a host, live. */
export function ProcessPanel({ host }: { host: HostSummary }) {
  return (
    <LookPanel host={host} title="Processes" what={what}>
      {(reading, proof) => <Table host={host} reading={reading} proof={proof} />}
    </LookPanel>
  );
}

function Table({ host, reading, proof }: { host: HostSummary; reading: Reading; proof: Proof }) {
  const [words, setWords] = useState("");
  const [column, setColumn] = useState<Column>("processor");
  const [turned, setTurned] = useState(false);
  const [tree, setTree] = useState(false);
  const [chosen, setChosen] = useState<ReadonlyMap<number, HostProcess>>(new Map());
  const shown = useMemo(() => arrange(reading, words, column, turned, tree), [reading, words, column, turned, tree]);
  // One that has ended, or whose number another has now, is chosen no longer.
  const still = [...chosen.values()].filter((p) => reading.processes.get(p.pid)?.start === p.start);
  const busy = [...reading.processes.values()].reduce((sum, p) => sum + (p.processorPercent ?? 0), 0);
  const list = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => list.current,
    estimateSize: () => 30,
    overscan: 10,
    initialRect: { width: 900, height: 420 },
  });
  const now = Date.parse(reading.at);
  return (
    <>
      <div className="process-head">
        <TextInput
          aria-label="Find among the processes"
          placeholder="Find: name, user, number"
          value={words}
          onChange={(e) => setWords(e.currentTarget.value)}
          spellCheck={false}
        />
        <Checkbox label="As a tree" checked={tree} onChange={(e) => setTree(e.currentTarget.checked)} />
        <span className="muted">
          {shown.length === reading.processes.size ? "" : `${shown.length} of `}
          {reading.processes.size} processes, processor {Math.round(busy / reading.processors)} %
        </span>
      </div>
      <div className="rows process-list" ref={list} role="table" aria-label={`Processes of ${host.label}`} tabIndex={0}>
        <div className="row process-row row-head" role="row">
          <span role="columnheader">
            <span className="unseen">Chosen</span>
          </span>
          {columns.map((c) => (
            <span
              key={c.column}
              role="columnheader"
              className={c.number ? "number" : ""}
              aria-sort={column === c.column ? (turned ? "descending" : "ascending") : "none"}
            >
              <button
                type="button"
                className="plain"
                onClick={() => {
                  setTurned(column === c.column && !turned);
                  setColumn(c.column);
                }}
              >
                {c.title}
                {column === c.column && <span aria-hidden="true">{turned ? " ↑" : " ↓"}</span>}
              </button>
            </span>
          ))}
        </div>
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const one = shown[item.index];
            if (!one) return null;
            const p = one.process;
            return (
              <div
                key={`${p.pid} ${p.start}`}
                role="row"
                className="row process-row"
                style={{ position: "absolute", top: 0, left: 0, right: 0, transform: `translateY(${item.start}px)` }}
              >
                <span role="cell">
                  <Checkbox
                    size="xs"
                    aria-label={`${p.name} (${p.pid})`}
                    checked={chosen.get(p.pid)?.start === p.start}
                    onChange={(e) => {
                      const next = new Map(chosen);
                      if (e.currentTarget.checked) next.set(p.pid, p);
                      else next.delete(p.pid);
                      setChosen(next);
                    }}
                  />
                </span>
                <span role="cell" className="number mono">
                  {p.pid}
                </span>
                <span role="cell" className="mono">
                  {p.user}
                </span>
                <span role="cell" className={`number ${(p.processorPercent ?? 0) >= 0.05 ? "" : "muted"}`}>
                  {p.processorPercent == null ? "" : `${p.processorPercent.toFixed(1)} %`}
                </span>
                <span role="cell" className="number">
                  {p.memoryBytes ? bytes(p.memoryBytes) : ""}
                </span>
                <span role="cell" className="number">
                  {used(p.processorSeconds)}
                </span>
                <span role="cell" className={`number ${p.niceness === 0 ? "muted" : ""}`}>
                  {p.niceness}
                </span>
                <span role="cell" className="number muted">
                  {span(now - Date.parse(p.startedAt))}
                </span>
                <span
                  role="cell"
                  className={`mono process-line ${p.commandLine ? "" : "muted"}`}
                  style={{ paddingLeft: one.depth * 14 }}
                  title={neutralise(p.commandLine ?? p.name)}
                >
                  {neutralise(p.commandLine ?? `[${p.name}]`)}
                  {p.state !== "sleeping" && p.state !== "running" && p.state !== "idle" && (
                    <span className="warning"> {p.state}</span>
                  )}
                </span>
              </div>
            );
          })}
        </div>
      </div>
      <Acts host={host} boot={reading.boot} chosen={still} proof={proof} onDone={() => setChosen(new Map())} />
    </>
  );
}

type Act = "end" | "kill" | "rank";

const verbs: Record<Act, string> = { end: "End", kill: "Kill", rank: "Set the niceness of" };

/** What is done with the chosen ones: a job on this host, which the host's name and customer stand over. */
function Acts({
  host,
  boot,
  chosen,
  proof,
  onDone,
}: {
  host: HostSummary;
  boot: string;
  chosen: HostProcess[];
  proof: Proof;
  onDone: () => void;
}) {
  const [asked, setAsked] = useState<{ act: Act; which: HostProcess[] }>();
  const [niceness, setNiceness] = useState<string | number>(10);
  const rank = whole(niceness);
  const customer = customerOf(host.groupPath);
  const make = useHostAct(host, proof, () => {
    setAsked(undefined);
    onDone();
  });
  const run = ({ act, which }: { act: Act; which: HostProcess[] }) => {
    const choice = { marks: which.map(markOf), boot };
    make.mutate(
      act === "rank"
        ? { rank: { which: choice, niceness: rank ?? 0 } }
        : { end: { which: choice, force: act === "kill" } },
    );
  };
  const names = (which: HostProcess[]) =>
    which.length > 4 ? `${which.length} processes` : which.map((p) => `${p.name} (${p.pid})`).join(", ");
  const single = chosen.length === 1 ? chosen[0] : undefined;
  return (
    <>
      <div className="acts process-acts">
        {chosen.length === 0 ? (
          <span className="muted">Choose processes to end them or to give them another niceness.</span>
        ) : (
          <>
            <span>{names(chosen)}</span>
            <Button size="compact-sm" variant="default" onClick={() => setAsked({ act: "end", which: chosen })}>
              End …
            </Button>
            <Button size="compact-sm" variant="default" onClick={() => setAsked({ act: "kill", which: chosen })}>
              Kill …
            </Button>
            <Button size="compact-sm" variant="default" onClick={() => setAsked({ act: "rank", which: chosen })}>
              Niceness …
            </Button>
            {single && (
              <Link
                to={`/work/new?program=${encodeURIComponent(single.name)}&on=${encodeURIComponent(`in "${customer}"`)}`}
              >
                Who else of {customer} runs {single.name}?
              </Link>
            )}
          </>
        )}
      </div>
      {make.data && <JobAnswer key={make.data.id} jobId={make.data.id} />}
      {asked && (
        <Modal opened onClose={() => setAsked(undefined)} title={`${verbs[asked.act]} ${names(asked.which)}`} size="lg">
          <form
            className="stack"
            onSubmit={(e) => {
              e.preventDefault();
              run(asked);
            }}
          >
            <p style={{ margin: 0 }}>
              On <b>{host.label}</b> of <b>{customer}</b>.{" "}
              {asked.act === "kill"
                ? "They are not asked to end, and lose what they have not kept."
                : asked.act === "end"
                  ? "They are asked to end and have ten seconds for it; whoever goes on is told."
                  : "From -20, before everything else, to 19, behind it."}
            </p>
            <ul className="mono" style={{ margin: 0 }}>
              {asked.which.slice(0, 12).map((p) => (
                <li key={p.pid}>
                  {p.pid} {neutralise((p.commandLine ?? p.name).slice(0, 80))}
                </li>
              ))}
              {asked.which.length > 12 && <li>and {asked.which.length - 12} more</li>}
            </ul>
            {asked.act === "rank" && (
              <NumberInput
                label="Niceness"
                min={-20}
                max={19}
                allowDecimal={false}
                value={niceness}
                onChange={setNiceness}
              />
            )}
            <Trouble error={make.error} />
            <Button
              type="submit"
              color={asked.act === "rank" ? undefined : "red"}
              loading={make.isPending}
              disabled={asked.act === "rank" && rank === null}
              title={asked.act === "rank" && rank === null ? "Say a niceness first" : undefined}
              classNames={{ label: "whole-label" }}
              h="auto"
              mih={36}
            >
              {verbs[asked.act]} {asked.which.length === 1 ? asked.which[0]?.name : `${asked.which.length} processes`}{" "}
              on {host.label} of {customer}
            </Button>
          </form>
        </Modal>
      )}
    </>
  );
}
