import { Button, PasswordInput, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { Me, SecondFactorOffer } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { useAccessAct } from "./useAccess";

type Step = "password" | "remove" | "codes";

/** Sets up, renews or removes the second factor; each takes the password again. */
export function SecondFactor({ me }: { me: Me }) {
  const [step, setStep] = useState<Step | undefined>(me.secondFactorMissing ? "password" : undefined);
  const [offer, setOffer] = useState<SecondFactorOffer>();
  const [codes, setCodes] = useState<string[]>();
  const done = () => {
    setStep(undefined);
    setOffer(undefined);
  };
  return (
    <section className="panel" aria-labelledby="factor-title">
      <header>
        <h2 id="factor-title">Second factor</h2>
        <span className="muted">{me.secondFactor ? "an authenticator app" : "none"}</span>
      </header>
      {codes && (
        <div className="stack" role="status">
          <p style={{ margin: 0 }}>
            Each of these signs you in once if the app is lost. Write them down now; they are shown this once.
          </p>
          <ul className="recovery mono">
            {codes.map((c) => (
              <li key={c}>{c}</li>
            ))}
          </ul>
          <Button variant="default" onClick={() => setCodes(undefined)}>
            They are written down
          </Button>
        </div>
      )}
      {!codes && !step && !offer && (
        <>
          <p className="muted" style={{ marginTop: 0 }}>
            {me.secondFactor
              ? `Signing in takes a code of your app too. ${me.recoveryCodes} recovery codes are left.`
              : "With one, whoever learns your password still can’t sign in."}
          </p>
          <div className="acts" style={{ justifyContent: "flex-start" }}>
            {me.secondFactor ? (
              <>
                <Button size="compact-sm" variant="default" onClick={() => setStep("codes")}>
                  New recovery codes
                </Button>
                <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setStep("remove")}>
                  Remove the second factor
                </Button>
              </>
            ) : (
              <Button size="compact-sm" variant="default" onClick={() => setStep("password")}>
                Set one up
              </Button>
            )}
          </div>
        </>
      )}
      {!codes && step && !offer && <Proof key={step} step={step} onOffer={setOffer} onCodes={setCodes} onDone={done} />}
      {!codes && offer && (
        <Confirm
          offer={offer}
          onDone={(c) => {
            setCodes(c);
            done();
          }}
        />
      )}
    </section>
  );
}

const acts: Record<Step, string> = {
  password: "Go on",
  remove: "Remove the second factor",
  codes: "Make new recovery codes",
};

function Proof({
  step,
  onOffer,
  onCodes,
  onDone,
}: {
  step: Step;
  onOffer: (offer: SecondFactorOffer) => void;
  onCodes: (codes: string[]) => void;
  onDone: () => void;
}) {
  const [password, setPassword] = useState("");
  const act = useAccessAct(async () => {
    const body = { password };
    if (step === "password") onOffer(await ask(api.POST("/api/v1/me/second-factor", { body })));
    else if (step === "codes") {
      onCodes((await ask(api.POST("/api/v1/me/recovery-codes", { body }))).codes);
      onDone();
    } else {
      await ask(api.POST("/api/v1/me/second-factor/remove", { body }));
      onDone();
    }
  });
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        act.mutate(undefined);
      }}
    >
      <PasswordInput
        label="Your password again"
        autoComplete="current-password"
        value={password}
        onChange={(e) => setPassword(e.currentTarget.value)}
      />
      <Trouble error={act.error} />
      <div className="acts" style={{ justifyContent: "flex-start" }}>
        <Button type="submit" variant="filled" loading={act.isPending}>
          {acts[step]}
        </Button>
        <Button variant="subtle" color="gray" onClick={onDone}>
          Leave it
        </Button>
      </div>
    </form>
  );
}

function Confirm({ offer, onDone }: { offer: SecondFactorOffer; onDone: (codes: string[]) => void }) {
  const [code, setCode] = useState("");
  const confirm = useAccessAct(async () => {
    onDone((await ask(api.POST("/api/v1/me/second-factor/confirm", { body: { code } }))).codes);
  });
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        confirm.mutate(undefined);
      }}
    >
      <p style={{ margin: 0 }}>Let your authenticator app read this, or type the secret into it.</p>
      <svg
        className="qr"
        viewBox={`0 0 ${offer.pictureSize} ${offer.pictureSize}`}
        role="img"
        aria-label="The secret as a QR code; it stands as text below"
        shapeRendering="crispEdges"
      >
        <path d={offer.picture} fill="#000" />
      </svg>
      <code className="mono" style={{ overflowWrap: "anywhere" }}>
        {offer.secret.replace(/(.{4})/g, "$1 ").trim()}
      </code>
      <TextInput
        label="The six digits that it shows now"
        classNames={{ input: "mono" }}
        inputMode="numeric"
        autoComplete="one-time-code"
        value={code}
        onChange={(e) => setCode(e.currentTarget.value)}
      />
      <Trouble error={confirm.error} />
      <Button
        type="submit"
        variant="filled"
        loading={confirm.isPending}
        disabled={code.trim().length < 6}
        title={code.trim().length < 6 ? "Type the six digits first" : undefined}
      >
        Ask for a code at each sign-in
      </Button>
    </form>
  );
}
