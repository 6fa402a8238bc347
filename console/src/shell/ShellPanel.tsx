import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { useMe, useMay } from "../access/useMay";
import { usePolicy } from "../access/usePolicy";
import { useSecrets } from "../access/useVault";
import { WhyNot } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { HostSummary, ShellInfo } from "../api/types";
import { customerOf } from "../estate/emblem";
import { useGroups } from "../estate/useGroups";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import type { HostDoor } from "../sessions/hostDoor";
import { KeyAsked } from "../sessions/KeyAsked";
import { asksForShell } from "./openAtOnce";
import { shellDesk, useShells } from "./shellDesk";
import { TerminalView } from "./TerminalView";

/** Opens shells on one host, shows the one that is open here, and leads back to those that go on. */
export function ShellPanel({ host, autoFocus = false }: { host: HostSummary; autoFocus?: boolean }) {
  const may = useMay(host.groupPath);
  const mine = useShells().filter((s) => s.host.id === host.id);
  const shown = mine.at(-1);
  const linked = host.presence.state === "linked";
  // Before it is known what one may do there, nothing is asked that could be refused.
  const known = useGroups().groups.some((g) => g.path === host.groupPath);
  return (
    <section className="panel shell-panel" aria-labelledby="shell-title">
      <header>
        <h2 id="shell-title">Shell</h2>
        {mine.length > 1 && <AllShells count={mine.length} />}
      </header>
      {!may("shell") ? (
        <WhyNot permission="shell" at={{ host: host.id }} />
      ) : (
        <>
          {shown && <TerminalView key={shown.key} shell={shown} autoFocus />}
          <Begin host={host} another={shown !== undefined} autoFocus={autoFocus && !shown} />
          {linked ? (
            known && <GoingOn host={host} />
          ) : (
            <p className="muted">{host.label} is away; a shell takes a host that is linked.</p>
          )}
        </>
      )}
    </section>
  );
}

function AllShells({ count }: { count: number }) {
  const go = useNavigate();
  return (
    <Button size="compact-sm" variant="subtle" color="gray" onClick={() => void go("/sessions/shells")}>
      All {count} side by side
    </Button>
  );
}

function Begin({ host, another, autoFocus }: { host: HostSummary; another: boolean; autoFocus: boolean }) {
  const may = useMay(host.groupPath);
  const [user, setUser] = useState("");
  const [door, setDoor] = useState<HostDoor>();
  const policy = usePolicy({ host: host.id }).data;
  const asksKey = policy?.side?.inForce.keyFor?.includes("shell") ?? false;
  const mayUse = asksKey && may("use-secrets");
  const fromVault = useSecrets({ host: host.id }, mayUse).secrets.some((s) => s.kind === "access-key");
  const linked = host.presence.state === "linked";
  const { state, search } = useLocation();
  const go = useNavigate();
  const atOnce = asksForShell(state) && linked && policy !== undefined && !asksKey;
  useEffect(() => {
    if (!atOnce) return;
    void go({ search }, { replace: true, state: null });
    shellDesk.open(host);
  }, [atOnce, go, host, search]);
  return (
    <>
      {asksKey && <KeyAsked host={host} door={door} onDoor={setDoor} fromVault={fromVault} act="opens a shell" />}
      <form
        className="shell-begin"
        onSubmit={(e) => {
          e.preventDefault();
          shellDesk.open(host, {
            ...(user.trim() ? { user: user.trim() } : {}),
            ...(door ? { proven: door } : {}),
            usesVault: fromVault,
          });
          // The session is the shell's now: it ends with that, not with this page.
          setDoor(undefined);
        }}
      >
        <Button
          type="submit"
          variant={another ? "default" : "filled"}
          autoFocus={autoFocus}
          disabled={!linked}
          title={linked ? undefined : `${host.label} is away`}
        >
          {another
            ? `Another shell on ${host.label}`
            : `Open a shell on ${host.label} of ${customerOf(host.groupPath)}`}
        </Button>
        {may("choose-user") ? (
          <TextInput
            classNames={{ input: "mono" }}
            aria-label="System user that it runs as"
            placeholder="as the agent's user"
            value={user}
            onChange={(e) => setUser(e.currentTarget.value)}
            spellCheck={false}
            autoCapitalize="off"
            autoComplete="off"
          />
        ) : (
          <span className="muted">runs as the agent’s user</span>
        )}
      </form>
    </>
  );
}

/** Shells that go on at the host without this window. */
function GoingOn({ host }: { host: HostSummary }) {
  const me = useMe();
  const queries = useQueryClient();
  const here = new Set(
    useShells()
      .filter((s) => s.host.id === host.id && !s.isOver)
      .map((s) => s.shellId),
  );
  const found = useQuery({
    queryKey: ["shells", host.id],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/hosts/{id}/shells", { params: { path: { id: host.id } } }))).items as ShellInfo[],
    refetchInterval: 5_000,
  });
  const end = useMutation({
    mutationFn: (shellId: string) =>
      ask(api.POST("/api/v1/hosts/{id}/shells/{shellId}/end", { params: { path: { id: host.id, shellId } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shells", host.id] }),
  });
  const others = found.data?.filter((s) => !here.has(s.id)) ?? [];
  if (found.error && !found.data) return <Trouble error={found.error} />;
  if (others.length === 0) return null;
  return (
    <>
      <h3>They go on at {host.label}</h3>
      <Trouble error={end.error} />
      <div className="rows">
        {others.map((s) => (
          <div key={s.id} className="row shell-row">
            <span className="host-name">
              <b className="mono">{s.commandText}</b>
              <span>
                {s.technician}, as <span className="mono">{s.user}</span>
              </span>
            </span>
            <span>
              <Ago time={s.beganAt} />
              <span className="muted"> · {s.isAttended ? "somebody is connected" : "nobody is connected"}</span>
            </span>
            <span className="acts">
              {s.technicianId === me?.id && s.isTerminal && (
                <Button
                  size="compact-sm"
                  variant="default"
                  onClick={() => shellDesk.open(host, { resumes: s.id })}
                  aria-label={`Go back to ${s.commandText}`}
                >
                  Go back to it
                </Button>
              )}
              <Button
                size="compact-sm"
                variant="default"
                loading={end.isPending && end.variables === s.id}
                onClick={() => end.mutate(s.id)}
                aria-label={`End ${s.commandText} of ${s.technician}`}
              >
                End it
              </Button>
            </span>
          </div>
        ))}
      </div>
    </>
  );
}
