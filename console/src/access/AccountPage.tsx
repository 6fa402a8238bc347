import { Button, Checkbox, PasswordInput, TextInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { Permission, SignInInfo } from "../api/types";
import { Ago } from "../parts/Ago";
import { CopyLine } from "../parts/CopyLine";
import { minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { DevicesPanel } from "./DevicesPanel";
import { grantWords } from "./grants";
import { LinkedLogins } from "./LinkedLogins";
import { MailAddress } from "./MailAddress";
import { Passkeys } from "./Passkeys";
import { permissions } from "./permissions";
import { SecondFactor } from "./SecondFactor";
import { useAccessAct } from "./useAccess";
import { useMe } from "./useMay";

/** One's own: what one may do, where one is signed in, tokens, password, second factor. */
export function AccountPage() {
  const me = useMe();
  if (!me) return null;
  return (
    <main className="page">
      <div className="page-head">
        <h1>{me.name}</h1>
      </div>
      {me.secondFactorMissing && (
        <p className="warning" role="alert">
          Everybody here needs a second factor, and you have none yet. Set it up below; then everything else opens.
        </p>
      )}
      <div className="account">
        <div className="stack">
          <section className="panel" aria-labelledby="grants-title">
            <header>
              <h2 id="grants-title">What you may do</h2>
            </header>
            {me.grants.length === 0 ? (
              <p className="muted">Nothing yet. {me.canChange.join(", ")} can give you a role.</p>
            ) : (
              <ul className="grants">
                {me.grants.map((g) => (
                  <li key={g.id}>{grantWords(g)}</li>
                ))}
              </ul>
            )}
          </section>
          <section className="panel" aria-labelledby="mail-title">
            <header>
              <h2 id="mail-title">Where notices reach you</h2>
            </header>
            <MailAddress id={me.id} own />
          </section>
          <SecondFactor me={me} />
          <Passkeys />
          <LinkedLogins />
          <Password />
        </div>
        <div className="stack">
          <SignInsPanel />
          <DevicesPanel />
          <Tokens />
        </div>
      </div>
    </main>
  );
}

function useSignIns() {
  const query = useQuery({
    queryKey: ["sign-ins"],
    queryFn: async () => (await ask(api.GET("/api/v1/me/sign-ins"))).items as SignInInfo[],
    refetchInterval: 30_000,
  });
  return { all: query.data ?? [], error: query.error };
}

function useEnd() {
  const queries = useQueryClient();
  return useAccessAct(
    (id: string) => ask(api.DELETE("/api/v1/me/sign-ins/{id}", { params: { path: { id } } })),
    () => void queries.invalidateQueries({ queryKey: ["sign-ins"] }),
  );
}

function SignInsPanel() {
  const queries = useQueryClient();
  const { all, error } = useSignIns();
  const end = useEnd();
  const others = useAccessAct(
    () => ask(api.DELETE("/api/v1/me/sign-ins")),
    () => void queries.invalidateQueries({ queryKey: ["sign-ins"] }),
  );
  const people = all.filter((s) => s.kind !== "script");
  return (
    <section className="panel" aria-labelledby="sign-ins-title">
      <header>
        <h2 id="sign-ins-title">Where you are signed in</h2>
        {all.some((s) => !s.here) && (
          <Button
            size="compact-sm"
            variant="default"
            loading={others.isPending}
            onClick={() => others.mutate(undefined)}
          >
            End all others, tokens too
          </Button>
        )}
      </header>
      <Trouble error={error ?? end.error ?? others.error} />
      {people.map((s) => (
        <div key={s.id} className="row sign-in-row">
          <span className="muted">{s.kind}</span>
          <span className="host-name">
            <b>{s.device}</b>
            <span>
              {s.address}, since {minute(s.createdAt)}
            </span>
          </span>
          <span className="muted">{s.here ? "this one" : <Ago time={s.lastSeenAt} />}</span>
          {s.here ? (
            <span />
          ) : (
            <Button
              size="compact-sm"
              variant="subtle"
              color="gray"
              aria-label={`End the sign-in of ${s.device}`}
              onClick={() => end.mutate(s.id)}
            >
              End
            </Button>
          )}
        </div>
      ))}
      <p className="muted" style={{ marginBottom: 0 }}>
        One that you don’t know? End it, and change your password.
      </p>
    </section>
  );
}

function Tokens() {
  const queries = useQueryClient();
  const { all } = useSignIns();
  const end = useEnd();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [may, setMay] = useState<Permission[]>(["see"]);
  const [until, setUntil] = useState("");
  const [password, setPassword] = useState("");
  const [token, setToken] = useState<string>();
  const make = useAccessAct(
    async () => {
      const body = { name, permissions: may, endsAt: new Date(`${until}T23:59:59`).toISOString(), password };
      const made = await ask(api.POST("/api/v1/me/tokens", { body }));
      setToken(made.token);
    },
    () => {
      setOpen(false);
      setName("");
      setPassword("");
      void queries.invalidateQueries({ queryKey: ["sign-ins"] });
    },
  );
  const scripts = all.filter((s) => s.kind === "script");
  const ready = name.trim() !== "" && until !== "" && password !== "";
  return (
    <section className="panel" aria-labelledby="tokens-title">
      <header>
        <h2 id="tokens-title">Tokens for scripts</h2>
        {!open && (
          <Button size="compact-sm" variant="default" onClick={() => setOpen(true)}>
            New token
          </Button>
        )}
      </header>
      <Trouble error={end.error} />
      {token && (
        <div className="stack">
          <p style={{ margin: 0 }}>This is shown once. Put it where the script finds it as UMBREK_TOKEN.</p>
          <CopyLine text={token} label="The token" />
        </div>
      )}
      {scripts.length === 0 && !open && !token && (
        <p className="muted">None. A token gives a script what you may do, and of that only what you tick.</p>
      )}
      {scripts.map((s) => (
        <div key={s.id} className="row sign-in-row">
          <span className="muted">script</span>
          <span className="host-name">
            <b>{s.device}</b>
            <span>{s.permissions?.join(", ")}</span>
          </span>
          <span className="muted">until {minute(s.expiresAt)}</span>
          <Button
            size="compact-sm"
            variant="subtle"
            color="gray"
            aria-label={`End the token ${s.device}`}
            onClick={() => end.mutate(s.id)}
          >
            End
          </Button>
        </div>
      ))}
      {open && (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate(undefined);
          }}
        >
          <TextInput label="What it is for" value={name} onChange={(e) => setName(e.currentTarget.value)} />
          <Checkbox.Group label="Good for" value={may} onChange={(v) => setMay(v as Permission[])}>
            <div className="ticks">
              {permissions.map((p) => (
                <Checkbox key={p.word} value={p.word} label={p.word} />
              ))}
            </div>
          </Checkbox.Group>
          <TextInput
            label="Until the end of (within a year)"
            type="date"
            value={until}
            onChange={(e) => setUntil(e.currentTarget.value)}
          />
          <PasswordInput
            label="Your password again"
            description="A token outlives this sign-in."
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
          />
          <Trouble error={make.error} />
          <div className="acts" style={{ justifyContent: "flex-start" }}>
            <Button
              type="submit"
              variant="filled"
              loading={make.isPending}
              disabled={!ready}
              title={ready ? undefined : "Say what it is for and until when, and type your password first"}
            >
              Make the token
            </Button>
            <Button variant="subtle" color="gray" onClick={() => setOpen(false)}>
              Close
            </Button>
          </div>
        </form>
      )}
    </section>
  );
}

function Password() {
  const [open, setOpen] = useState(false);
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const [said, setSaid] = useState("");
  const change = useAccessAct(async () => {
    const ended = await ask(api.POST("/api/v1/me/password", { body: { password: old, newPassword: next } }));
    setSaid(
      `Your password is changed; ${ended === 1 ? "one other sign-in has" : `${ended} other sign-ins have`} ended.`,
    );
    setOld("");
    setNext("");
    setOpen(false);
  });
  return (
    <section className="panel" aria-labelledby="password-title">
      <header>
        <h2 id="password-title">Password</h2>
        {!open && (
          <Button size="compact-sm" variant="default" onClick={() => setOpen(true)}>
            Change
          </Button>
        )}
      </header>
      {said && <p role="status">{said}</p>}
      {open && (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate(undefined);
          }}
        >
          <PasswordInput
            label="Your password"
            autoComplete="current-password"
            value={old}
            onChange={(e) => setOld(e.currentTarget.value)}
          />
          <PasswordInput
            label="The new one"
            description="12 characters at least; four words that nobody would guess together do well"
            autoComplete="new-password"
            value={next}
            onChange={(e) => setNext(e.currentTarget.value)}
          />
          <Trouble error={change.error} />
          <div className="acts" style={{ justifyContent: "flex-start" }}>
            <Button type="submit" variant="filled" loading={change.isPending}>
              Change it, and end all other sign-ins
            </Button>
            <Button variant="subtle" color="gray" onClick={() => setOpen(false)}>
              Leave it
            </Button>
          </div>
        </form>
      )}
    </section>
  );
}
