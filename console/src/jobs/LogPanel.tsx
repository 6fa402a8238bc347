import { Autocomplete, Button, Select, TextInput } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import type { HostSummary } from "../api/types";
import { save } from "../parts/file";
import { bytes } from "../parts/time";
import { HostPanel } from "../sessions/HostPanel";
import { LineWord } from "../sessions/LineWord";
import type { Proof } from "../sessions/useProof";
import { HostLook } from "./hostLook";
import {
  ages,
  isGrave,
  type LogAge,
  logCsv,
  type LogLine,
  type LogSeverity,
  type LogSources,
  type LogWanted,
  logWish,
  type LogWord,
  LINES_SHOWN,
  oneLine,
  severities,
  withMore,
} from "./logs";

const JOURNAL = "the journal";
const nothingWanted: LogWanted = { file: "", text: "", least: "", since: "" };

/** Logs of a host, read and followed for as long as the panel is open. */
export const LogPanel = ({ host }: { host: HostSummary }) => (
  <HostPanel
    host={host}
    title="Logs"
    id="logs-title"
    permission="read-files"
    ask={`Look into the logs of ${host.label}`}
    act="shows a log"
  >
    {(proof) => <Log host={host} proof={proof} />}
  </HostPanel>
);

function Log({ host, proof }: { host: HostSummary; proof: Proof }) {
  const [wanted, setWanted] = useState(nothingWanted);
  const [asked, setAsked] = useState(nothingWanted);
  const [round, setRound] = useState(0);
  const [sources, setSources] = useState<LogSources>();
  const [lines, setLines] = useState<LogLine[]>([]);
  const [caughtUp, setCaughtUp] = useState(false);
  const [word, setWord] = useState<string>();
  const [over, setOver] = useState(false);
  const { door, usesVault } = proof;
  useEffect(() => {
    const look = new HostLook<LogWord>(
      host.id,
      { kind: "logs", log: logWish(asked, Date.now()) },
      { door, usesVault },
      {
        word: (w) => {
          if (w.sources) setSources(w.sources);
          const more = w.lines;
          if (more) setLines((before) => withMore(before, more));
          if (w.caughtUp) setCaughtUp(true);
          if (!w.notice && !w.problem) setWord(undefined);
        },
        notice: setWord,
        over: (why) => {
          setWord(why);
          setOver(true);
        },
      },
    );
    return () => look.close();
  }, [host.id, door, usesVault, asked, round]);
  const begin = (next: LogWanted) => {
    setWanted(next);
    setLines([]);
    setCaughtUp(false);
    setOver(false);
    setWord(undefined);
    if (JSON.stringify(next) === JSON.stringify(asked)) setRound(round + 1);
    else setAsked(next);
  };
  const name = asked.file || JOURNAL;
  const file = `${host.label.replace(/[^\w.-]+/g, "-")}-log`;
  return (
    <>
      <form
        className="log-head"
        onSubmit={(e) => {
          e.preventDefault();
          begin(wanted);
        }}
      >
        <Autocomplete
          aria-label="Which log"
          placeholder={sources && !sources.journal ? "/var/log/syslog" : "the journal, or a file’s whole path"}
          classNames={{ input: "mono" }}
          data={sources?.files.map((f) => f.path)}
          renderOption={({ option }) => {
            const f = sources?.files.find((s) => s.path === option.value);
            return (
              <span className="log-file">
                <span className="mono">{option.value}</span>
                <span className="muted">{f && bytes(f.bytes)}</span>
              </span>
            );
          }}
          value={wanted.file}
          onChange={(path) => setWanted({ ...wanted, file: path })}
          onOptionSubmit={(path) => begin({ ...wanted, file: path })}
          spellCheck={false}
        />
        <TextInput
          aria-label="Lines that hold"
          placeholder="Lines that hold …"
          value={wanted.text}
          onChange={(e) => setWanted({ ...wanted, text: e.currentTarget.value })}
          spellCheck={false}
        />
        <Select
          aria-label="At least as grave as"
          data={[
            { value: "", label: "however grave" },
            ...severities.slice(0, -1).map((s) => ({ value: s, label: `${s} and worse` })),
          ]}
          value={wanted.least}
          onChange={(s) => begin({ ...wanted, least: (s ?? "") as LogSeverity | "" })}
          allowDeselect={false}
        />
        <Select
          aria-label="From when"
          data={ages.map(({ value, label }) => ({ value, label }))}
          value={wanted.since}
          onChange={(s) => begin({ ...wanted, since: (s ?? "") as LogAge })}
          allowDeselect={false}
        />
        <Button type="submit" variant="default">
          Show
        </Button>
      </form>
      <LineWord word={word} over={over} onAgain={() => begin(wanted)} />
      {!(over && lines.length === 0) && <Lines lines={lines} label={`${name} of ${host.label}`} />}
      <div className="log-foot">
        <span className="muted">
          {over
            ? ""
            : !caughtUp
              ? `Reading ${name} …`
              : `${lines.length === 0 ? "No such line so far" : lines.length === 1 ? "1 line" : `${lines.length} lines`}${lines.length === LINES_SHOWN ? ", the newest" : ""}; new ones come by themselves.`}
          {asked.least && " Lines of which the severity is not known are left out."}
        </span>
        <Button
          size="compact-sm"
          variant="default"
          disabled={lines.length === 0}
          title={lines.length === 0 ? "There is no line to save" : undefined}
          onClick={() => save(`${file}.json`, "application/json", JSON.stringify(lines, null, 2))}
        >
          Save as JSON
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          disabled={lines.length === 0}
          title={lines.length === 0 ? "There is no line to save" : undefined}
          onClick={() => save(`${file}.csv`, "text/csv", logCsv(lines))}
        >
          Save as CSV
        </Button>
      </div>
    </>
  );
}

/** Lines, oldest first; whoever looks at the newest goes on seeing them. */
function Lines({ lines, label }: { lines: LogLine[]; label: string }) {
  const box = useRef<HTMLDivElement>(null);
  const atEnd = useRef(true);
  useEffect(() => {
    if (atEnd.current && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [lines]);
  return (
    <div
      ref={box}
      className="log-lines mono"
      role="log"
      aria-live="off"
      aria-label={label}
      tabIndex={0}
      onScroll={(e) => {
        const { scrollTop, scrollHeight, clientHeight } = e.currentTarget;
        atEnd.current = scrollHeight - scrollTop - clientHeight < 24;
      }}
    >
      {lines.map((line, n) => (
        <div key={n} className="log-line">
          <time dateTime={line.at ?? undefined} title={line.at ?? undefined}>
            {line.at ? clock(line.at) : ""}
          </time>
          <span className={isGrave(line.severity) ? "trouble" : line.severity === "warning" ? "warning" : "muted"}>
            {line.severity ?? ""}
          </span>
          <span className="log-text">
            {line.source && (
              <b>
                {oneLine(line.source)}
                {line.pid != null && `[${line.pid}]`}:{" "}
              </b>
            )}
            {oneLine(line.text)}
          </span>
        </div>
      ))}
    </div>
  );
}

/** The time of day, with the day where it is another than today. */
function clock(at: string): string {
  const time = new Date(at);
  const day = time.toLocaleDateString("en-GB", { day: "2-digit", month: "short" });
  const today = new Date().toLocaleDateString("en-GB", { day: "2-digit", month: "short" });
  return `${day === today ? "" : `${day} `}${time.toLocaleTimeString("en-GB")}`;
}
