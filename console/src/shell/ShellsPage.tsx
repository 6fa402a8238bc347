import { Checkbox } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { Empty } from "../parts/Trouble";
import { SessionsTabs } from "../sessions/SessionsTabs";
import type { OpenShell } from "./openShell";
import { shellDesk, useShells } from "./shellDesk";
import { TerminalView } from "./TerminalView";

const nameOf = (s: OpenShell) => `${s.host.label} of ${customerOf(s.host.groupPath)}`;

/** Every shell that this window has open, one in front; the same keys may go to several. */
export function ShellsPage() {
  const shells = useShells();
  const [chosen, setChosen] = useState<string>();
  const front = shells.find((s) => s.key === chosen) ?? shells.at(-1);
  const joined = shells.filter((s) => s.joined && !s.isOver);
  return (
    <main className="page shells-page">
      <div className="page-head">
        <h1>Shells</h1>
        <SessionsTabs />
      </div>
      {!front ? (
        <Empty title="No shell is open in this window">
          Open one on a <Link to="/hosts">host’s</Link> page, in its panel Shell. It stays here while you look at other
          pages.
        </Empty>
      ) : (
        <>
          <div className="shell-tabs" role="group" aria-label="Open shells">
            {shells.map((s) => (
              <span key={s.key} className={s === front ? "shell-tab front" : "shell-tab"}>
                <button type="button" id={`tab-${s.key}`} aria-pressed={s === front} onClick={() => setChosen(s.key)}>
                  <Emblem customer={customerOf(s.host.groupPath)} />
                  {s.host.label}
                  {s.state !== "open" && <span className="muted">{s.state}</span>}
                </button>
                {shells.length > 1 && (
                  <Checkbox
                    size="xs"
                    checked={s.joined}
                    disabled={s.isOver}
                    title={
                      s.isOver ? "This shell is over" : "What is typed into one that is ticked goes to all of them"
                    }
                    aria-label={`Type into ${nameOf(s)} together with others`}
                    onChange={(e) => shellDesk.join(s, e.currentTarget.checked)}
                  />
                )}
              </span>
            ))}
          </div>
          {joined.length > 1 && (
            <p className="joined" role="alert">
              {front.joined ? "What you type goes to " : "Ticked, but not in front: "}
              <b>{joined.length} shells</b>: {joined.map(nameOf).join(", ")}
            </p>
          )}
          <TerminalView key={front.key} shell={front} autoFocus />
        </>
      )}
    </main>
  );
}
