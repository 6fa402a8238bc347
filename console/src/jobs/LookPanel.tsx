import { useEffect, useRef, useState } from "react";
import type { HostSummary } from "../api/types";
import { HostPanel } from "../sessions/HostPanel";
import { LineWord } from "../sessions/LineWord";
import type { Proof } from "../sessions/useProof";
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
  return (
    <HostPanel
      host={host}
      title={title}
      id={`${what.kind}-title`}
      permission="run"
      ask={`Look at the ${what.kind} of ${host.label}`}
    >
      {(proof) => (
        <Look host={host} what={what} proof={proof}>
          {children}
        </Look>
      )}
    </HostPanel>
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
      <LineWord
        word={word}
        over={over}
        onAgain={() => {
          setOver(false);
          setWord(undefined);
          setRound(round + 1);
        }}
      />
      {seen !== undefined ? children(seen, proof) : !over && <p className="muted">Asking {host.label} …</p>}
    </>
  );
}
