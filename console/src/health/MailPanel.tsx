import { Button, Modal, PasswordInput, SegmentedControl, TextInput } from "@mantine/core";
import { useState } from "react";
import type { MailSecurity, MailSettings } from "../api/types";
import { NumberField } from "../parts/NumberField";
import { Trouble } from "../parts/Trouble";
import { type MailWish, useKeepMail, useMailSettings } from "./useNotices";

const security = [
  { value: "start-tls", label: "STARTTLS" },
  { value: "tls", label: "TLS" },
  { value: "none", label: "in clear" },
];

/** Through which server mail goes out; a lead's business. */
export function MailPanel({ lead }: { lead: boolean }) {
  const settings = useMailSettings(lead);
  const [open, setOpen] = useState(false);
  const m = settings.data;
  return (
    <section className="panel" aria-labelledby="mail-title" style={{ marginTop: 22 }}>
      <header>
        <h2 id="mail-title">How mail goes out</h2>
        {m && (
          <Button size="compact-sm" variant="default" onClick={() => setOpen(true)}>
            Change how mail goes out …
          </Button>
        )}
      </header>
      <Trouble error={settings.error} />
      {!lead && (
        <p className="muted" style={{ margin: 0 }}>
          Whoever administers everything sets the mail server.
        </p>
      )}
      {m && (
        <p style={{ margin: 0 }}>
          {m.server ? (
            <>
              Through <span className="mono">{`${m.server}:${m.port}`}</span> (
              {security.find((s) => s.value === m.security)?.label}){m.user && `, signed in as ${m.user}`}, from{" "}
              <span className="mono">{m.from}</span>.{" "}
              {m.console ? (
                <>
                  Links lead to <span className="mono">{m.console}</span>.
                </>
              ) : (
                "Mails have no links: nobody has said where the console is."
              )}
            </>
          ) : (
            "No server is set: no mail goes out."
          )}
        </p>
      )}
      {open && m && <MailEditor settings={m} onClose={() => setOpen(false)} />}
    </section>
  );
}

function MailEditor({ settings, onClose }: { settings: MailSettings; onClose: () => void }) {
  const [wish, setWish] = useState<MailWish>({
    server: settings.server ?? "",
    port: settings.port,
    security: settings.security,
    user: settings.user ?? "",
    password: null,
    from: settings.from ?? "",
    // Where none was wished before, none is slipped in.
    console: settings.console ?? (settings.server ? "" : window.location.origin),
  });
  // As they were read: what another changed meanwhile is not to be overwritten unseen.
  const [read] = useState(settings.version);
  const keep = useKeepMail(read, onClose);
  const change = (part: Partial<MailWish>) => setWish({ ...wish, ...part });
  return (
    <Modal opened onClose={onClose} title="How mail goes out">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate(wish);
        }}
      >
        <TextInput
          label="Mail server"
          description="Left empty, no mail goes out."
          classNames={{ input: "mono" }}
          value={wish.server}
          onChange={(e) => change({ server: e.currentTarget.value })}
        />
        <SegmentedControl
          aria-label="How the way there is secured"
          data={security}
          value={wish.security}
          onChange={(v) =>
            change({ security: v as MailSecurity, port: v === "tls" ? 465 : v === "start-tls" ? 587 : 25 })
          }
        />
        <NumberField label="Port" min={1} max={65535} value={wish.port} onChange={(port) => change({ port })} />
        <TextInput
          label="Sign in as"
          description="Left empty, it does not sign in."
          autoComplete="off"
          value={wish.user}
          onChange={(e) => change({ user: e.currentTarget.value })}
        />
        {wish.user && (
          <PasswordInput
            label="Password"
            description={settings.hasPassword ? "Left empty, the one that is kept stays." : undefined}
            autoComplete="new-password"
            value={wish.password ?? ""}
            onChange={(e) => change({ password: e.currentTarget.value || null })}
          />
        )}
        <TextInput
          label="Mails come from"
          placeholder="umbrek@halyard.example"
          classNames={{ input: "mono" }}
          value={wish.from}
          onChange={(e) => change({ from: e.currentTarget.value })}
        />
        <TextInput
          label="Where people open the console"
          description="For the links in mails; left empty, they have none."
          classNames={{ input: "mono" }}
          value={wish.console}
          onChange={(e) => change({ console: e.currentTarget.value })}
        />
        <Trouble error={keep.error} />
        <Button type="submit" variant="filled" loading={keep.isPending}>
          Send mail this way
        </Button>
      </form>
    </Modal>
  );
}
