import { Button, Menu, Modal, Textarea } from "@mantine/core";
import { useState } from "react";
import { useMay } from "../access/useMay";
import { Locked } from "../access/WhyNot";
import type { AlertInfo, AlertLine } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { useAlertAct } from "./useAlerts";

const HOUR = 3_600_000;

/** Tomorrow morning at eight, where the technician is. */
function tomorrow(now: Date): Date {
  const at = new Date(now);
  at.setDate(at.getDate() + 1);
  at.setHours(8, 0, 0, 0);
  return at;
}

const quiet: { words: string; until: (now: Date) => Date }[] = [
  { words: "for an hour", until: (now) => new Date(now.getTime() + HOUR) },
  { words: "for four hours", until: (now) => new Date(now.getTime() + 4 * HOUR) },
  { words: "until tomorrow at eight", until: tomorrow },
  { words: "for a week", until: (now) => new Date(now.getTime() + 7 * 24 * HOUR) },
];

/** What may be decided about a line of alerts: about all that stand behind it. */
export function AlertActs({ line }: { line: AlertLine }) {
  const [lead] = line.alerts;
  return lead && line.state !== "cleared" ? <Acts line={line} lead={lead} /> : null;
}

function Acts({ line, lead }: { line: AlertLine; lead: AlertInfo }) {
  const act = useAlertAct();
  const [dismissing, setDismissing] = useState(false);
  const may = useMay(lead.groupPath)("configure");
  const about = line.place ?? `${lead.checkName} on ${lead.label}`;
  if (!may)
    return (
      <Locked permission="configure" at={{ host: lead.hostId }}>
        Take it up
      </Locked>
    );
  return (
    <span className="acts">
      {line.state === "open" ? (
        <Button
          size="compact-sm"
          variant="default"
          aria-label={`I am at it: ${about}`}
          loading={act.isPending}
          onClick={() => act.mutate({ alerts: line.alerts, act: "acknowledge" })}
        >
          I am at it
        </Button>
      ) : (
        <Button
          size="compact-sm"
          variant="default"
          aria-label={`Open again: ${about}`}
          loading={act.isPending}
          onClick={() => act.mutate({ alerts: line.alerts, act: "reopen" })}
        >
          Open again
        </Button>
      )}
      <Menu position="bottom-end" shadow="md">
        <Menu.Target>
          <Button size="compact-sm" variant="subtle" color="gray" aria-label={`More about ${about}`}>
            More
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Label>Leave it quiet</Menu.Label>
          {quiet.map((q) => (
            <Menu.Item
              key={q.words}
              onClick={() =>
                act.mutate({ alerts: line.alerts, act: "snooze", until: q.until(new Date()).toISOString() })
              }
            >
              {q.words}
            </Menu.Item>
          ))}
          <Menu.Divider />
          <Menu.Item onClick={() => setDismissing(true)}>Dismiss …</Menu.Item>
        </Menu.Dropdown>
      </Menu>
      {act.error && <Trouble error={act.error} />}
      {dismissing && <Dismiss line={line} about={about} onClose={() => setDismissing(false)} />}
    </span>
  );
}

function Dismiss({ line, about, onClose }: { line: AlertLine; about: string; onClose: () => void }) {
  const [note, setNote] = useState("");
  const act = useAlertAct(onClose);
  return (
    <Modal opened onClose={onClose} title={`Dismiss: ${about}`}>
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          act.mutate({ alerts: line.alerts, act: "dismiss", note });
        }}
      >
        <p style={{ margin: 0 }}>
          It is decided to be none. It is not raised again before its cause has been gone; “Open again” takes it back.
        </p>
        <Textarea
          label="Why it is none"
          description="Whoever finds it later has to know"
          value={note}
          onChange={(e) => setNote(e.currentTarget.value)}
          autosize
          minRows={2}
          data-autofocus
        />
        <Trouble error={act.error} />
        <Button type="submit" variant="filled" loading={act.isPending}>
          {`Dismiss ${line.alerts.length === 1 ? "it" : `all ${line.alerts.length}`}`}
        </Button>
      </form>
    </Modal>
  );
}
