import { Button, Menu, Modal } from "@mantine/core";
import { useState } from "react";
import { useMe } from "../access/useMay";
import type { MaintenanceInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { useGroups } from "../estate/useGroups";
import { minute } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { MaintenanceEditor } from "./MaintenanceEditor";
import { lasting, recurrenceWords } from "./recurrence";
import { NewRule, RuleLocked } from "./RuleActs";
import { RulesTabs } from "./RulesTabs";
import { useEndMaintenance, useMaintenance, useRemoveMaintenance } from "./useMaintenance";

type Open = { act: "new" } | { act: "change" | "remove"; window: MaintenanceInfo };

/** Times in which alerts make no noise. */
export function MaintenancePage() {
  const windows = useMaintenance();
  const { groups } = useGroups();
  const me = useMe();
  const [open, setOpen] = useState<Open>();
  const end = useEndMaintenance();
  const mine = groups.filter((g) => g.may.includes("configure"));
  const mayEverywhere = me?.everywhere.includes("configure") ?? false;
  // Of one host's window the service says itself who may change it.
  const mayChange = (w: MaintenanceInfo) =>
    w.hostId ? mine.length > 0 : w.groupId ? mine.some((g) => g.id === w.groupId) : mayEverywhere;
  const close = () => setOpen(undefined);
  return (
    <main className="page">
      <div className="page-head">
        <h1>Rules</h1>
        <RulesTabs />
        <NewRule groups={groups} onClick={() => setOpen({ act: "new" })}>
          New maintenance window …
        </NewRule>
      </div>
      <p className="muted">
        In a maintenance window alerts are raised and shown, and nobody is told of them. What is still so when it ends
        is told then.
      </p>
      <Trouble error={windows.error ?? end.error} />
      {windows.data?.length === 0 && (
        <Empty title="No maintenance window">
          Make one before you work on hosts, or for work that comes again and again.
        </Empty>
      )}
      <div className="rows">
        {windows.data?.map((w) => (
          <div key={w.id} className="row notice-row">
            <span className="host-name">
              <b>{w.name}</b>
              <span>by {w.createdBy}</span>
            </span>
            <span className="check-rule">
              <span>
                {w.place ? (w.hostId ? w.place : readable(w.place)) : "everything"}
                {w.on && (
                  <>
                    , only <span className="mono">{w.on}</span>
                  </>
                )}{" "}
                <span className="muted">
                  ({w.hosts} {w.hosts === 1 ? "host" : "hosts"})
                </span>
              </span>
              <span className="muted">
                {recurrenceWords(w.rule)}, for {lasting(w.minutes)}
                {w.note && ` · ${w.note}`}
              </span>
            </span>
            <span>
              {w.now && w.to ? (
                <b>now, until {minute(w.to)}</b>
              ) : w.from ? (
                `next ${minute(w.from)}`
              ) : (
                <span className="muted">over</span>
              )}
            </span>
            <span className="acts">
              {!mayChange(w) && <RuleLocked groupId={w.groupId} />}
              {mayChange(w) && (
                <>
                  {w.now && (
                    <Button
                      size="compact-sm"
                      variant="default"
                      aria-label={`End ${w.name} now`}
                      loading={end.isPending}
                      onClick={() => end.mutate(w.id)}
                    >
                      End it now
                    </Button>
                  )}
                  <Menu position="bottom-end" shadow="md">
                    <Menu.Target>
                      <Button size="compact-sm" variant="subtle" color="gray" aria-label={`More about ${w.name}`}>
                        More
                      </Button>
                    </Menu.Target>
                    <Menu.Dropdown>
                      <Menu.Item onClick={() => setOpen({ act: "change", window: w })}>Change {w.name} …</Menu.Item>
                      <Menu.Item component="a" href={`/api/v1/maintenance/${w.id}/calendar`} download={`${w.name}.ics`}>
                        Save {w.name} as a calendar file
                      </Menu.Item>
                      <Menu.Item onClick={() => setOpen({ act: "remove", window: w })}>Remove {w.name} …</Menu.Item>
                    </Menu.Dropdown>
                  </Menu>
                </>
              )}
            </span>
          </div>
        ))}
      </div>
      {open?.act === "new" && <MaintenanceEditor groups={mine} mayEverywhere={mayEverywhere} onClose={close} />}
      {open?.act === "change" && (
        <MaintenanceEditor window={open.window} groups={mine} mayEverywhere={mayEverywhere} onClose={close} />
      )}
      {open?.act === "remove" && <Remove window={open.window} onClose={close} />}
    </main>
  );
}

function Remove({ window, onClose }: { window: MaintenanceInfo; onClose: () => void }) {
  const remove = useRemoveMaintenance(onClose);
  return (
    <Modal opened onClose={onClose} title={`Remove ${window.name}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>Its hosts’ alerts make noise again at once.</p>
        <Trouble error={remove.error} />
        <Button color="red" variant="filled" loading={remove.isPending} onClick={() => remove.mutate(window.id)}>
          {`Remove ${window.name}`}
        </Button>
      </div>
    </Modal>
  );
}
