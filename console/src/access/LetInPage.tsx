import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask } from "../api/client";
import type { PairingInfo } from "../api/types";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { useMe } from "./useMay";

/** A client waits to be let in as whoever is signed in here. */
export function LetInPage() {
  const [search, setSearch] = useSearchParams();
  const code = search.get("code") ?? "";
  return (
    <main className="page">
      <div className="page-head">
        <h1>Let a client in</h1>
      </div>
      <section className="panel let-in">
        {code === "" ? <AskCode onCode={(c) => setSearch({ code: c })} /> : <Decide key={code} code={code} />}
      </section>
    </main>
  );
}

function AskCode({ onCode }: { onCode: (code: string) => void }) {
  const [typed, setTyped] = useState("");
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        if (typed.trim()) onCode(typed.trim());
      }}
    >
      <TextInput
        label="Code"
        description="It stands at the client, where you have begun umbrek sign-in --browser"
        classNames={{ input: "mono" }}
        placeholder="BCDF-GHJK"
        value={typed}
        onChange={(e) => setTyped(e.currentTarget.value)}
        autoComplete="off"
        spellCheck={false}
        autoFocus
      />
      <Button type="submit">Find the client</Button>
    </form>
  );
}

function Decide({ code }: { code: string }) {
  const me = useMe();
  const found = useQuery({
    queryKey: ["pairing", code],
    retry: false,
    staleTime: Infinity,
    queryFn: async () =>
      (await ask(api.GET("/api/v1/sign-in/pairings/{code}", { params: { path: { code } } }))) as PairingInfo,
  });
  const decide = useMutation({
    mutationFn: (allow: boolean) => {
      const params = { params: { path: { code } } };
      return ask(
        allow
          ? api.POST("/api/v1/sign-in/pairings/{code}/allow", params)
          : api.POST("/api/v1/sign-in/pairings/{code}/refuse", params),
      );
    },
  });
  if (found.error)
    return (
      <>
        <Trouble error={found.error} />
        <Link to="/account/client">Type another code</Link>
      </>
    );
  if (!found.data || !me) return <p className="muted">Asking the service …</p>;
  const client = found.data;
  if (decide.isSuccess)
    return (
      <p role="status">
        {decide.variables
          ? `${client.device} is signed in as ${me.name} in a moment. You can close this page; under your own account you can end its sign-in.`
          : `${client.device} is refused.`}
      </p>
    );
  return (
    <div className="stack">
      <p className="let-in-code mono" aria-label="Code">
        {client.code}
      </p>
      <p>
        The client on <b>{client.device}</b>
        {client.address && (
          <>
            {" "}
            at <span className="mono">{client.address}</span>
          </>
        )}{" "}
        asked <Ago time={client.askedAt} /> to be signed in as <b>{me.name}</b>. It then may do what you may.
      </p>
      <p className="warning">
        Let it in only if you have begun this yourself just now and the same code stands there. Whoever sent you this
        page could have begun it instead.
      </p>
      <Trouble error={decide.error} />
      <div className="let-in-acts">
        <Button variant="filled" loading={decide.isPending && decide.variables} onClick={() => decide.mutate(true)}>
          Let {client.device} in as {me.name}
        </Button>
        <Button variant="default" onClick={() => decide.mutate(false)}>
          Refuse it
        </Button>
      </div>
    </div>
  );
}
