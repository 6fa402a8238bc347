import { Button, Menu, Modal } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import type { CheckInfo, CheckSetting } from "../api/types";
import { readable } from "../estate/hostList";
import { useGroups } from "../estate/useGroups";
import { span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { OwnCheckEditor, SettingEditor } from "./CheckEditor";
import { ProbedHosts } from "./ProbedHosts";
import { NewRule, RuleLocked } from "./RuleActs";
import { RulesTabs } from "./RulesTabs";
import { SeverityWord } from "./severity";
import { useChecks, useRemoveCheck } from "./useChecks";

type Open = { act: "new" } | { act: "change" | "say" | "remove" | "hosts"; check: CheckInfo };

/** The rules that raise alerts: built in, and of one's own; each may be otherwise in a place. */
export function ChecksPage() {
  const checks = useChecks();
  const { groups } = useGroups();
  const me = useMe();
  const [open, setOpen] = useState<Open>();
  const mine = groups.filter((g) => g.may.includes("configure"));
  const mayEverywhere = me?.everywhere.includes("configure") ?? false;
  const mayChange = (c: CheckInfo) => (c.place ? mine.some((g) => g.path === c.place) : mayEverywhere);
  const close = () => setOpen(undefined);
  return (
    <main className="page">
      <div className="page-head">
        <h1>Rules</h1>
        <RulesTabs />
        <NewRule groups={groups} onClick={() => setOpen({ act: "new" })}>
          New check …
        </NewRule>
      </div>
      <Trouble error={checks.error} />
      <div className="rows">
        {checks.data &&
          [...checks.data]
            .sort((a, b) => Number(!a.id) - Number(!b.id))
            .map((c) => (
              <div key={c.key} className="row check-row">
                <SeverityWord severity={c.severity} />
                <span className="host-name">
                  <b>{c.name}</b>
                  <span>
                    {c.subsystem}
                    {c.place && ` · only ${readable(c.place)}`}
                    {c.id ? ` · by ${c.createdBy ?? ""}` : " · built in"}
                  </span>
                </span>
                <span className="check-rule">
                  {c.looks ? <span>{c.looks}</span> : <span className="mono">{c.when}</span>}
                  <span className="muted">
                    for {span(c.holdSeconds * 1000)}
                    {c.probe && `, looked at every ${span(c.probe.everySeconds * 1000)}`}
                    {c.probe?.act === "restart" && "; the agent starts it again"}
                    {c.probe?.act === "script" && "; the agent runs a script that helps"}
                    {c.until && (
                      <>
                        , until <span className="mono">{c.until}</span>
                      </>
                    )}
                  </span>
                  {c.settings.map((s) => (
                    <span key={s.id} className="muted">
                      {s.place ? (s.hostId ? s.place : readable(s.place)) : "everything"}: {settingWords(s)}
                    </span>
                  ))}
                </span>
                <span className="number">
                  {c.alerts > 0 && (
                    <Link to="/now">
                      {c.alerts} {c.alerts === 1 ? "host" : "hosts"}
                    </Link>
                  )}
                </span>
                <span className="acts">
                  {c.probe && (
                    <Button
                      size="compact-sm"
                      variant="default"
                      aria-label={`${c.name}, host by host`}
                      onClick={() => setOpen({ act: "hosts", check: c })}
                    >
                      Hosts …
                    </Button>
                  )}
                  {mine.length > 0 && (
                    <Button
                      size="compact-sm"
                      variant="default"
                      aria-label={`${c.name}, otherwise in one place`}
                      onClick={() => setOpen({ act: "say", check: c })}
                    >
                      Otherwise …
                    </Button>
                  )}
                  {c.id && !mayChange(c) && <RuleLocked groupId={groups.find((g) => g.path === c.place)?.id} />}
                  {c.id && mayChange(c) && (
                    <Menu position="bottom-end" shadow="md">
                      <Menu.Target>
                        <Button size="compact-sm" variant="subtle" color="gray" aria-label={`More about ${c.name}`}>
                          More
                        </Button>
                      </Menu.Target>
                      <Menu.Dropdown>
                        <Menu.Item onClick={() => setOpen({ act: "change", check: c })}>Change {c.name} …</Menu.Item>
                        <Menu.Item onClick={() => setOpen({ act: "remove", check: c })}>Remove {c.name} …</Menu.Item>
                      </Menu.Dropdown>
                    </Menu>
                  )}
                </span>
              </div>
            ))}
      </div>
      {open?.act === "new" && <OwnCheckEditor groups={mine} onClose={close} />}
      {open?.act === "change" && <OwnCheckEditor check={open.check} groups={mine} onClose={close} />}
      {open?.act === "say" && (
        <SettingEditor check={open.check} groups={mine} mayEverywhere={mayEverywhere} onClose={close} />
      )}
      {open?.act === "hosts" && <ProbedHosts check={open.check} onClose={close} />}
      {open?.act === "remove" && <Remove check={open.check} onClose={close} />}
    </main>
  );
}

function settingWords(s: CheckSetting): string {
  const parts = [
    s.off === true && "does not count",
    s.off === false && "counts",
    s.severity,
    s.when && `${s.when}${s.until ? ` until ${s.until}` : ""}`,
    s.holdSeconds && `for ${span(s.holdSeconds * 1000)}`,
    s.note,
  ];
  return parts.filter(Boolean).join(", ");
}

function Remove({ check, onClose }: { check: CheckInfo; onClose: () => void }) {
  const remove = useRemoveCheck(onClose);
  return (
    <Modal opened onClose={onClose} title={`Remove ${check.name}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>Its alerts clear, and what places say of it goes with it.</p>
        <Trouble error={remove.error} />
        <Button
          color="red"
          variant="filled"
          loading={remove.isPending}
          onClick={() => check.id && remove.mutate(check.id)}
        >
          {`Remove ${check.name}`}
        </Button>
      </div>
    </Modal>
  );
}
