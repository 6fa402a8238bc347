import { Button, PasswordInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, ask } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { useAccessAct } from "./useAccess";
import { useSignInWays } from "./useSignInWays";

/** Who one is at the provider of single sign-on; nothing where there is none. */
export function LinkedLogins() {
  const queries = useQueryClient();
  const provider = useSignInWays()?.singleSignOn;
  const outcome = useSearchParams()[0].get("sso");
  const linked = useQuery({
    queryKey: ["linked-logins"],
    queryFn: async () => (await ask(api.GET("/api/v1/me/linked-logins"))).items,
    enabled: Boolean(provider),
  });
  const unlink = useAccessAct(
    () => ask(api.DELETE("/api/v1/me/linked-logins")),
    () => void queries.invalidateQueries({ queryKey: ["linked-logins"] }),
  );
  const [asked, setAsked] = useState(false);
  const [password, setPassword] = useState("");
  const link = useAccessAct(async () => {
    const begun = await ask(api.POST("/api/v1/me/linked-logins", { body: { password } }));
    window.location.assign(begun.path);
  });
  if (!provider) return null;
  const me = linked.data?.[0];
  return (
    <section className="panel" aria-labelledby="linked-title">
      <header>
        <h2 id="linked-title">Sign-on with {provider}</h2>
        {me ? (
          <Button
            size="compact-sm"
            variant="default"
            loading={unlink.isPending}
            onClick={() => unlink.mutate(undefined)}
          >
            Unlink
          </Button>
        ) : (
          !asked && (
            <Button size="compact-sm" variant="default" onClick={() => setAsked(true)}>
              Link me
            </Button>
          )
        )}
      </header>
      <Trouble error={linked.error ?? unlink.error} />
      {outcome === "linked-elsewhere" && (
        <p className="trouble" role="alert">
          Who you are at {provider} is linked to another technician. Ask a lead; one person there is one technician
          here.
        </p>
      )}
      {outcome === "link-over" && (
        <p className="trouble" role="alert">
          Linking took more than five minutes, or was begun elsewhere. Begin again.
        </p>
      )}
      {asked && !me && (
        <form
          className="stack"
          onSubmit={(e) => {
            e.preventDefault();
            link.mutate(undefined);
          }}
        >
          <PasswordInput
            label="Your password again"
            description={`From then on your account at ${provider} signs you in here.`}
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
          />
          <Trouble error={link.error} />
          <div className="acts" style={{ justifyContent: "flex-start" }}>
            <Button
              type="submit"
              variant="filled"
              loading={link.isPending}
              disabled={password === ""}
              title={password === "" ? "Type your password first" : undefined}
            >
              Go to {provider}
            </Button>
            <Button
              variant="subtle"
              color="gray"
              onClick={() => {
                setAsked(false);
                setPassword("");
              }}
            >
              Cancel
            </Button>
          </div>
        </form>
      )}
      <p className="muted" style={{ margin: 0 }}>
        {me ? `You sign in as ${me.name} there.` : `Linked, you sign in with your account at ${provider}.`}
      </p>
    </section>
  );
}
