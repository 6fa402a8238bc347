import { Button } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { WhyNot } from "../access/WhyNot";
import type { HostSummary } from "../api/types";
import { KeyAsked } from "../sessions/KeyAsked";
import { type Proof, useProof } from "../sessions/useProof";
import { HostLook, type ViewWord } from "./hostLook";

interface What<T> {
  kind: "processes" | "services";
  everySeconds: number;
  /** What is known behind a word of the host. */
  take: (before: T | undefined, word: ViewWord) => T | undefined;
}

/** A panel for what runs on a host: looked at when somebody asks for it, for as long as it is shown. */
export function LookPanel<T>({
  host,
  title,
  what,
  children,
}: {
  host: HostSummary;
  title: string;
  what: What<T>;
  children: (seen: T, proof: Proof) => React.ReactNode;
}) {
  const [looks, setLooks] = useState(false);
  const { may, asksKey, door, setDoor, fromVault, proof, ready } = useProof(host, "run");
  const linked = host.presence.state === "linked";
  const id = `${what.kind}-title`;
  return (
    <section className="panel look-panel" aria-labelledby={id}>
      <header>
        <h2 id={id}>{title}</h2>
        {looks && (
          <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setLooks(false)}>
            Look no more
          </Button>
        )}
      </header>
      {!may("run") ? (
        <WhyNot permission="run" at={{ host: host.id }} />
      ) : (
        <>
          {/* Asked for once somebody wants to look: the bench has other panels that ask for the same key. */}
          {looks && asksKey && <KeyAsked host={host} door={door} onDoor={setDoor} fromVault={fromVault} />}
          {looks ? (
            ready && (
              <Look host={host} what={what} proof={proof}>
                {children}
              </Look>
            )
          ) : (
            <Button
              variant="default"
              disabled={!linked}
              title={linked ? undefined : `${host.label} is away`}
              onClick={() => setLooks(true)}
            >
              Look at the {what.kind} of {host.label}
            </Button>
          )}
          {!looks && !linked && <p className="muted">{host.label} is away; this takes a host that is linked.</p>}
        </>
      )}
    </section>
  );
}

function Look<T>({
  host,
  what,
  proof,
  children,
}: {
  host: HostSummary;
  what: What<T>;
  proof: Proof;
  children: (seen: T, proof: Proof) => React.ReactNode;
}) {
  const [seen, setSeen] = useState<T>();
  const [word, setWord] = useState<string>();
  const [over, setOver] = useState(false);
  const [round, setRound] = useState(0);
  const take = useRef(what.take);
  const { kind, everySeconds } = what;
  const { door, usesVault } = proof;
  useEffect(() => {
    const look = new HostLook<ViewWord>(
      host.id,
      { kind, view: { everySeconds } },
      { door, usesVault },
      {
        word: (w) => {
          setSeen((before) => take.current(before, w));
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
  }, [host.id, kind, everySeconds, door, usesVault, round]);
  return (
    <>
      {word && (
        <p className={over ? "trouble" : "muted"} role="status">
          {word}{" "}
          {over && (
            <Button
              size="compact-sm"
              variant="default"
              onClick={() => {
                setOver(false);
                setWord(undefined);
                setRound(round + 1);
              }}
            >
              Look again
            </Button>
          )}
        </p>
      )}
      {seen !== undefined ? children(seen, proof) : !over && <p className="muted">Asking {host.label} …</p>}
    </>
  );
}
