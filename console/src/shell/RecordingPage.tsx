import { Button, SegmentedControl, Select, Slider } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState, useSyncExternalStore } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useMay } from "../access/useMay";
import { Locked } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { RecordingInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useEmblems } from "../estate/useCustomers";
import { save } from "../parts/file";
import { bytes, exact } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { SessionsTabs } from "../sessions/SessionsTabs";
import { type Cast, readableKeys, readCast, sizeOf } from "./cast";
import { CastPlayer } from "./castPlayer";
import { openTerminal } from "./terminal";

const LONGEST_PAUSES = [
  { value: "1", label: "pauses of 1 s at most" },
  { value: "3", label: "pauses of 3 s at most" },
  { value: "any", label: "pauses as they were" },
];
const KEYS_SHOWN = 80;

/** One recorded shell, shown as it went. */
export function RecordingPage() {
  const { id = "" } = useParams();
  const info = useQuery({
    queryKey: ["recording", id],
    queryFn: async () => (await ask(api.GET("/api/v1/recordings/{id}", { params: { path: { id } } }))) as RecordingInfo,
  });
  const text = useQuery({
    queryKey: ["cast", id],
    // Whoever reads it is in the audit log: once for each time that the page is opened.
    staleTime: Infinity,
    gcTime: 0,
    queryFn: async () =>
      await ask(api.GET("/api/v1/recordings/{id}/cast", { params: { path: { id } }, parseAs: "text" })),
  });
  const read = text.data === undefined ? undefined : tryRead(text.data);
  const r = info.data;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Recording</h1>
        <SessionsTabs />
      </div>
      <Trouble error={info.error ?? text.error ?? read?.problem} />
      {r && <Said info={r} text={text.data} />}
      {r && read?.cast && <Show key={id} info={r} cast={read.cast} />}
      {text.isPending && !text.error && <p className="muted">Fetching what was recorded …</p>}
    </main>
  );
}

function tryRead(text: string): { cast?: Cast; problem?: unknown } {
  try {
    return { cast: readCast(text) };
  } catch (problem) {
    return { problem };
  }
}

function Said({ info, text }: { info: RecordingInfo; text: string | undefined }) {
  const may = useMay(info.groupPath);
  const go = useNavigate();
  const queries = useQueryClient();
  const [sure, setSure] = useState(false);
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE("/api/v1/recordings/{id}", { params: { path: { id: info.id } } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["recordings"] });
      await go("/sessions/recordings");
    },
  });
  return (
    <>
      <p className="recording-said">
        <Emblem customer={customerOf(info.groupPath)} size={20} />
        <b>
          <Link to={`/hosts/${info.hostId}`}>{info.hostLabel}</Link>
        </b>
        <span className="muted">{readable(info.groupPath)}</span>
        <span>
          <b>{info.technician}</b>, {exact(info.beganAt)}
        </span>
        <span>
          <span className="mono">{info.commandText}</span>
          {info.user && (
            <>
              , as <span className="mono">{info.user}</span>
            </>
          )}
        </span>
        <span className="acts">
          {text !== undefined && (
            <Button
              size="compact-sm"
              variant="default"
              title="asciicast v2"
              onClick={() => save(`${info.hostLabel}-${info.id}.cast`, "application/x-asciicast", text)}
            >
              Save
            </Button>
          )}
          {!may("administer") ? (
            <Locked permission="administer" at={{ host: info.hostId }}>
              Remove …
            </Locked>
          ) : (
            <Button
              size="compact-sm"
              variant="default"
              disabled={!info.endedAt}
              title={info.endedAt ? undefined : "It is still being written"}
              onClick={() => setSure(true)}
            >
              Remove …
            </Button>
          )}
        </span>
      </p>
      {sure && (
        <p role="alert" className="joined">
          What {info.technician} did on {info.hostLabel} of {customerOf(info.groupPath)} then is gone for good; the
          audit log says who removed it.{" "}
          <Button size="compact-sm" color="red" loading={remove.isPending} onClick={() => remove.mutate()}>
            Remove the recording
          </Button>{" "}
          <Button size="compact-sm" variant="default" onClick={() => setSure(false)}>
            Keep it
          </Button>
        </p>
      )}
      <Trouble error={remove.error} />
      <p className="muted recording-foot">
        {info.endedAt && info.bytes
          ? `${bytes(info.bytes)}, SHA-256 `
          : "It is still being written; this is what there is so far. "}
        {info.sha256 && <span className="mono">{info.sha256}</span>}
        {info.continues && " It begins in the middle of a shell to which its technician came back."}
      </p>
    </>
  );
}

const clock = (seconds: number) =>
  `${String(Math.floor(seconds / 60))}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;

function Show({ info, cast }: { info: RecordingInfo; cast: Cast }) {
  const box = useRef<HTMLDivElement>(null);
  const [player, setPlayer] = useState<CastPlayer>();
  const [typed, setTyped] = useState("");
  const [mark, setMark] = useState("");
  const edge = useEmblems()(customerOf(info.groupPath)).field;
  useEffect(() => {
    const place = box.current;
    if (!place) return;
    let over = false;
    let close = () => {
      over = true;
    };
    const element = document.createElement("div");
    place.append(element);
    void openTerminal(element, `What ${info.hostLabel} showed`, {
      cols: cast.columns,
      rows: cast.rows,
      disableStdin: true,
      scrollback: 0,
    }).then((terminal) => {
      const made = new CastPlayer(
        cast,
        {
          reset: () => {
            terminal.reset();
            terminal.resize(cast.columns, cast.rows);
            setTyped("");
            setMark("");
          },
          show: (event) => {
            if (event.kind === "output") terminal.write(event.text);
            else if (event.kind === "input") setTyped((t) => (t + readableKeys(event.text)).slice(-KEYS_SHOWN));
            else if (event.kind === "mark") setMark(event.text);
            else {
              const size = sizeOf(event.text);
              if (size) terminal.resize(size.columns, size.rows);
            }
          },
        },
        3,
      );
      close = () => {
        made.dispose();
        terminal.dispose();
      };
      if (over) close();
      else setPlayer(made);
    });
    return () => {
      close();
      element.remove();
      setPlayer(undefined);
    };
  }, [cast, info.hostLabel]);
  return (
    <section
      className="shell-view"
      style={{ "--edge": edge } as React.CSSProperties}
      aria-label={`Recorded shell on ${info.hostLabel} of ${customerOf(info.groupPath)}`}
      onKeyDown={(e) => {
        // Buttons and choices have keys of their own.
        if (!player || (e.target as HTMLElement).closest("button, input, [role=slider]")) return;
        if (e.key === " ") {
          e.preventDefault();
          if (player.playing) player.stop();
          else player.play();
        } else if (e.key === "ArrowLeft") player.seek(player.at - 5);
        else if (e.key === "ArrowRight") player.seek(player.at + 5);
      }}
    >
      {player && <Controls player={player} />}
      {info.hasKeys && (
        <p className="recording-keys" aria-label="What was typed last">
          <span className="muted">typed</span> <span className="mono">{typed}</span>
        </p>
      )}
      {mark && <p className="terminal-word">{mark}</p>}
      <div ref={box} className="recording-screen" />
    </section>
  );
}

function Controls({ player }: { player: CastPlayer }) {
  useSyncExternalStore(player.subscribe, player.version);
  const [longest, setLongest] = useState("3");
  return (
    <header className="recording-controls">
      <Button size="compact-sm" variant="filled" onClick={() => (player.playing ? player.stop() : player.play())}>
        {player.playing ? "Stop" : player.at >= player.length && player.length > 0 ? "Again" : "Play"}
      </Button>
      <Slider
        className="recording-slider"
        aria-label="Where in the recording"
        size="sm"
        min={0}
        max={Math.max(player.length, 0.1)}
        step={0.1}
        value={player.at}
        label={(v) => clock(v)}
        thumbLabel="Where in the recording"
        marks={player.marks.map((m) => ({ value: m.at }))}
        onChange={(v) => player.seek(v)}
      />
      <span className="mono" role="timer">
        {clock(player.at)} of {clock(player.length)}
      </span>
      <SegmentedControl
        size="xs"
        aria-label="Pace"
        value={String(player.pace)}
        onChange={(v) => player.setPace(Number(v))}
        data={["1", "2", "4", "16"].map((p) => ({ value: p, label: `${p}×` }))}
      />
      <Select
        size="xs"
        aria-label="Longest pause"
        data={LONGEST_PAUSES}
        value={longest}
        allowDeselect={false}
        onChange={(v) => {
          setLongest(v ?? "3");
          player.setLongestPause(v === "any" ? undefined : Number(v));
        }}
      />
    </header>
  );
}
