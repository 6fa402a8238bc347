import { Button, NumberInput, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { CreatedEnrolmentToken, EnrolmentTokenInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { exact } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";

const lives = [
  { value: "86400", label: "a day" },
  { value: "604800", label: "a week" },
  { value: "2592000", label: "30 days" },
];

export function JoinPage() {
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => ask(api.GET("/api/v1/enrolment-tokens")) });
  return (
    <main className="page">
      <div className="page-head">
        <h1>Join</h1>
        <span className="muted">A token lets computers into one group by one line</span>
      </div>
      <div className="panels" style={{ marginBottom: 16 }}>
        <NewToken />
      </div>
      <Trouble error={tokens.error} />
      {tokens.data &&
        (tokens.data.items.length === 0 ? (
          <Empty title="No token yet">Choose a group above and make the first one.</Empty>
        ) : (
          <div className="rows">
            <div className="row token-row row-head" aria-hidden="true">
              <span>Group</span>
              <span>State</span>
              <span>Used</span>
              <span>Expires</span>
              <span>Note</span>
              <span></span>
            </div>
            {tokens.data.items.map((token) => (
              <TokenRow key={token.id} token={token} />
            ))}
          </div>
        ))}
    </main>
  );
}

function TokenRow({ token }: { token: EnrolmentTokenInfo }) {
  const queries = useQueryClient();
  const revoke = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/enrolment-tokens/{id}/revoke", { params: { path: { id: token.id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <div className="row token-row">
      <span>{readable(token.groupPath)}</span>
      <span className={token.state === "valid" ? "" : "muted"}>{token.state.replace("-", " ")}</span>
      <span>
        {token.uses}
        {token.maxUses != null && ` of ${token.maxUses}`}
      </span>
      <span>{token.expiresAt ? exact(token.expiresAt) : "never"}</span>
      <span>
        {token.note}{" "}
        <span className="muted">
          {token.createdBy}, <Ago time={token.createdAt} />
        </span>
      </span>
      <span>
        {token.state === "valid" && (
          <Button
            size="compact-sm"
            variant="default"
            onClick={() => revoke.mutate()}
            loading={revoke.isPending}
            title={`Nobody can join ${token.groupPath} with it any more; hosts that joined stay`}
          >
            Revoke
          </Button>
        )}
        <Trouble error={revoke.error} />
      </span>
    </div>
  );
}

function NewToken() {
  const queries = useQueryClient();
  const [scope] = useScope();
  const groups = useQuery({ queryKey: ["groups"], queryFn: () => ask(api.GET("/api/v1/groups")) });
  const [group, setGroup] = useState<string | null>(scope || null);
  const [note, setNote] = useState("");
  const [life, setLife] = useState<string | null>("604800");
  const [uses, setUses] = useState<string | number>("");
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/v1/enrolment-tokens", {
          body: {
            groupPath: group ?? "",
            note: note || null,
            expiresInSeconds: Number(life),
            maxUses: uses === "" ? null : Number(uses),
          },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <section className="panel" aria-labelledby="new-token">
      <header>
        <h2 id="new-token">New token</h2>
      </header>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
        style={{
          display: "grid",
          gap: 10,
          gridTemplateColumns: "repeat(auto-fit, minmax(min(100%, 200px), 1fr))",
          alignItems: "end",
        }}
      >
        <Select
          label="Group"
          placeholder={groups.data?.items.length === 0 ? "There is no group yet" : "Choose"}
          data={groups.data?.items.map((g) => ({ value: g.path, label: readable(g.path) })) ?? []}
          value={group}
          onChange={setGroup}
          searchable
          required
        />
        <Select label="Lives for" data={lives} value={life} onChange={setLife} allowDeselect={false} />
        <NumberInput label="Computers" placeholder="any number" min={1} max={100000} value={uses} onChange={setUses} />
        <TextInput label="Note" value={note} onChange={(e) => setNote(e.currentTarget.value)} />
        <Button
          type="submit"
          loading={make.isPending}
          disabled={!group}
          title={group ? undefined : "Choose a group first"}
        >
          Make a token
        </Button>
      </form>
      <Trouble error={groups.error ?? make.error} />
      {make.data && <Made token={make.data} />}
    </section>
  );
}

function Made({ token }: { token: CreatedEnrolmentToken }) {
  const [copied, setCopied] = useState(false);
  return (
    <div role="status" style={{ marginTop: 14 }}>
      <p style={{ margin: "0 0 6px" }}>
        Run this on each computer that joins {readable(token.info.groupPath)}. It is shown this once.
      </p>
      <div className="copy-line">
        <pre className="output">{token.command}</pre>
        <Button
          variant="default"
          onClick={() => void navigator.clipboard.writeText(token.command).then(() => setCopied(true))}
        >
          {copied ? "Copied" : "Copy"}
        </Button>
      </div>
    </div>
  );
}
