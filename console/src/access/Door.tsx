import { Button, Checkbox, PasswordInput, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, ServiceProblem } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { canUsePasskeys, signInWithPasskey } from "./passkeys";
import { useSignInWays } from "./useSignInWays";

/** What stands before the console: signing in or, on a new service, making the first technician. */
export function Door() {
  const setUp = useQuery({ queryKey: ["set-up"], queryFn: () => ask(api.GET("/api/v1/set-up")) });
  if (setUp.isPending) return null;
  return (
    <main className="door">
      {setUp.error ? <Trouble error={setUp.error} /> : <DoorForm first={setUp.data?.needed ?? false} />}
    </main>
  );
}

function DoorForm({ first }: { first: boolean }) {
  const queries = useQueryClient();
  const [code, setCode] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [digits, setDigits] = useState("");
  const [remember, setRemember] = useState(false);
  const provider = useSignInWays()?.singleSignOn;
  const outcome = new URLSearchParams(window.location.search).get("sso");
  const inside = async () => {
    await queries.invalidateQueries({ queryKey: ["set-up"] });
    await queries.invalidateQueries({ queryKey: ["me"] });
  };
  const enter = useMutation({
    mutationFn: async () => {
      if (first) await ask(api.POST("/api/v1/set-up", { body: { code, name, password } }));
      return ask(
        api.POST("/api/v1/sign-in", {
          body: {
            name,
            password,
            use: "cookie",
            device: null,
            code: digits || null,
            deviceKey: null,
            remember: digits ? remember : false,
          },
        }),
      );
    },
    onSuccess: inside,
  });
  const passkey = useMutation({ mutationFn: signInWithPasskey, onSuccess: inside });
  const [asked, setAsked] = useState(false);
  const wanted = enter.error instanceof ServiceProblem && enter.error.word === "second-factor-asked";
  if (wanted && !asked) setAsked(true);
  if (asked) {
    return (
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <h1>The second factor</h1>
        <p className="muted">The password of {name} is right. Now the code of your authenticator app.</p>
        <TextInput
          label="Code, or a recovery code"
          classNames={{ input: "mono" }}
          value={digits}
          onChange={(e) => setDigits(e.currentTarget.value)}
          required
          autoFocus
          inputMode="numeric"
          autoComplete="one-time-code"
        />
        <Checkbox
          label="This is my own device: ask here no more for 30 days"
          checked={remember}
          onChange={(e) => setRemember(e.currentTarget.checked)}
        />
        {!wanted && <Trouble error={enter.error} />}
        <Button type="submit" loading={enter.isPending}>
          Sign in
        </Button>
        <Button
          variant="subtle"
          color="gray"
          onClick={() => {
            setAsked(false);
            setDigits("");
            enter.reset();
          }}
        >
          Somebody else signs in
        </Button>
      </form>
    );
  }
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        enter.mutate();
      }}
    >
      <h1>{first ? "The first technician" : "Sign in"}</h1>
      {first && (
        <>
          <p className="muted">This service is new. Whoever started it sees a set-up code on its terminal.</p>
          <TextInput
            label="Set-up code"
            value={code}
            onChange={(e) => setCode(e.currentTarget.value)}
            required
            autoFocus
            autoComplete="one-time-code"
          />
        </>
      )}
      <TextInput
        label="Name"
        value={name}
        onChange={(e) => setName(e.currentTarget.value)}
        required
        autoFocus={!first}
        autoComplete="username"
      />
      <PasswordInput
        label="Password"
        description={first ? "At least 12 characters; a few words are easier than signs." : undefined}
        value={password}
        onChange={(e) => setPassword(e.currentTarget.value)}
        required
        autoComplete={first ? "new-password" : "current-password"}
      />
      <Trouble error={enter.error ?? passkey.error} />
      {outcome && provider && !enter.error && (
        <p className="trouble" role="alert">
          {outcomeWords(outcome, provider)}
        </p>
      )}
      <Button type="submit" loading={enter.isPending}>
        {first ? "Make the first technician" : "Sign in"}
      </Button>
      {!first && canUsePasskeys() && (
        <Button variant="default" loading={passkey.isPending} onClick={() => passkey.mutate()}>
          Sign in with a passkey
        </Button>
      )}
      {!first && provider && (
        <Button
          variant="default"
          component="a"
          href={`/sso/begin?to=${encodeURIComponent(window.location.pathname + (outcome ? "" : window.location.search))}`}
        >
          Sign in with {provider}
        </Button>
      )}
    </form>
  );
}

/** What came of signing in with the provider, when nobody is inside after it. */
function outcomeWords(outcome: string, provider: string): string {
  switch (outcome) {
    case "unknown":
      return `${provider} knows you, and nobody here is linked to that account. Sign in with your password, and link it under your name.`;
    case "unreachable":
      return `${provider} does not answer. Sign in with your password, or try again later.`;
    default:
      return `Signing in with ${provider} did not work, or took too long. Try again.`;
  }
}
