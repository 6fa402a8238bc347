import { Button, TextInput } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useEmblems } from "../estate/useCustomers";
import type { OpenShell } from "./openShell";
import { shellDesk } from "./shellDesk";

/** One terminal with its host's name and customer over it, which stay in sight whatever runs in it. */
export function TerminalView({ shell, autoFocus = false }: { shell: OpenShell; autoFocus?: boolean }) {
  const box = useRef<HTMLDivElement>(null);
  const [searching, setSearching] = useState(false);
  const customer = customerOf(shell.host.groupPath);
  const edge = useEmblems()(customer).field;
  const ready = shell.terminal !== undefined;
  useEffect(() => {
    const place = box.current;
    if (!place) return;
    place.append(shell.element);
    const watch = new ResizeObserver(() => shell.fit());
    watch.observe(place);
    return () => {
      watch.disconnect();
      shell.element.remove();
    };
  }, [shell]);
  useEffect(() => {
    if (ready && autoFocus) {
      shell.fit();
      shell.focus();
    }
  }, [shell, ready, autoFocus]);
  return (
    <section
      className="shell-view"
      style={{ "--edge": edge } as React.CSSProperties}
      aria-label={`Shell on ${shell.host.label} of ${customer}`}
    >
      <header>
        <Emblem customer={customer} size={20} />
        <b>
          <Link to={`/hosts/${shell.host.id}`}>{shell.host.label}</Link>
        </b>
        <span className="mono muted">{shell.host.systemName}</span>
        <span className="muted">{readable(shell.host.groupPath)}</span>
        {shell.user && <span className="mono">as {shell.user}</span>}
        {shell.recording && !shell.isOver && (
          <span className="recorded" title="The host policy asks for it">
            {shell.recording.hasKeys ? "What it shows and what you type is recorded" : "What it shows is recorded"}
          </span>
        )}
        <span className="acts">
          <Button size="compact-xs" variant="subtle" color="gray" onClick={() => setSearching(!searching)}>
            Find
          </Button>
          {shell.state === "broken" && (
            <Button size="compact-xs" variant="default" onClick={() => shell.retry()}>
              Connect now
            </Button>
          )}
          {!shell.isOver && (
            <>
              <Button
                size="compact-xs"
                variant="default"
                title="It goes on for ten minutes; come back to it from the host's page"
                onClick={() => shell.leave()}
              >
                Leave it running
              </Button>
              <Button size="compact-xs" variant="default" onClick={() => shell.end()}>
                End it
              </Button>
            </>
          )}
          {shell.isOver && (
            <Button size="compact-xs" variant="default" onClick={() => shellDesk.close(shell)}>
              Close
            </Button>
          )}
        </span>
      </header>
      {searching && <Search shell={shell} onClose={() => setSearching(false)} />}
      <ShellStatus shell={shell} />
      <div ref={box} className="terminal-place" />
      <footer className="muted">
        Ctrl Shift ↑ leaves the terminal with the keyboard · Ctrl Shift C copies · Ctrl Shift V pastes
      </footer>
    </section>
  );
}

function ShellStatus({ shell }: { shell: OpenShell }) {
  const words = {
    connecting: `Opening a shell on ${shell.host.label} …`,
    open: "",
    broken: "The line is broken; the shell goes on. Connecting again …",
    ended: "The shell has ended.",
    left: "You have left this shell. It goes on for ten minutes.",
  }[shell.state];
  const sentence = [words, shell.state === "broken" ? undefined : shell.word].filter(Boolean).join(" ");
  return (
    <p role="status" className={sentence ? "terminal-word" : "terminal-word nothing"}>
      {sentence}
    </p>
  );
}

function Search({ shell, onClose }: { shell: OpenShell; onClose: () => void }) {
  const [text, setText] = useState("");
  const [found, setFound] = useState(true);
  const look = (wanted: string, back: boolean) => {
    const at = { decorations: undefined, incremental: false };
    setFound(
      wanted === "" || (back ? shell.search?.findPrevious(wanted, at) : shell.search?.findNext(wanted, at)) === true,
    );
  };
  return (
    <form
      className="terminal-search"
      onSubmit={(e) => {
        e.preventDefault();
        look(text, true);
      }}
      onKeyDown={(e) => {
        if (e.key === "Escape") {
          onClose();
          shell.focus();
        }
      }}
    >
      <TextInput
        size="xs"
        autoFocus
        aria-label={`Find in what ${shell.host.label} has shown`}
        placeholder="Find above; Enter goes on upwards"
        value={text}
        onChange={(e) => {
          setText(e.currentTarget.value);
          look(e.currentTarget.value, true);
        }}
        error={found ? undefined : "It does not stand there."}
      />
      <Button size="compact-xs" type="submit" variant="default">
        Earlier
      </Button>
      <Button size="compact-xs" variant="default" onClick={() => look(text, false)}>
        Later
      </Button>
    </form>
  );
}
