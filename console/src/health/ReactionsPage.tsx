import { Button, Menu, Modal } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import type { ReactionInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { useGroups } from "../estate/useGroups";
import { runbookShelf, scriptShelf } from "../jobs/steps";
import { Ago } from "../parts/Ago";
import { span } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { ReactionEditor } from "./ReactionEditor";
import { NewRule, RuleLocked } from "./RuleActs";
import { RulesTabs } from "./RulesTabs";
import { useKeepReaction, useReactions, useRemoveReaction, wishOf } from "./useReactions";

type Open = { act: "new" } | { act: "change" | "remove"; reaction: ReactionInfo };

/** What runs by itself because of alerts. */
export function ReactionsPage() {
  const reactions = useReactions();
  const { groups } = useGroups();
  const me = useMe();
  const [open, setOpen] = useState<Open>();
  const mine = groups.filter((g) => g.may.includes("configure"));
  const mayEverywhere = me?.everywhere.includes("configure") ?? false;
  // Of one host's reaction the service says itself who may change it.
  const mayChange = (r: ReactionInfo) =>
    r.hostId ? mine.length > 0 : r.groupId ? mine.some((g) => g.id === r.groupId) : mayEverywhere;
  const close = () => setOpen(undefined);
  return (
    <main className="page">
      <div className="page-head">
        <h1>Rules</h1>
        <RulesTabs />
        <NewRule groups={groups} onClick={() => setOpen({ act: "new" })}>
          New reaction …
        </NewRule>
      </div>
      <p className="muted">
        A reaction runs a runbook or a script on a host when a check raises an alert there: once for each alert, and not
        while somebody is at it or the host is in a maintenance window.
      </p>
      <Trouble error={reactions.error} />
      {reactions.data?.length === 0 && (
        <Empty title="Nothing runs by itself">
          Have a runbook run for an alert that it has put right by hand a few times.
        </Empty>
      )}
      <div className="rows">
        {reactions.data?.map((r) => (
          <div key={r.id} className="row notice-row">
            <span className="host-name">
              <b>{r.name}</b>
              <span>with what {r.owner} is granted</span>
            </span>
            <span className="check-rule">
              <span>
                When <b>{r.checkName}</b> is raised on {r.place ? (r.hostId ? r.place : readable(r.place)) : "any host"}
                {r.waitSeconds > 0 && ` and still open after ${span(r.waitSeconds * 1000)}`}
              </span>
              <span className="muted">
                <Runs reaction={r} />, on one host not again within {span(r.spacingSeconds * 1000)}
              </span>
            </span>
            <span>
              <HowItWent reaction={r} />
            </span>
            <span className="acts">
              {!mayChange(r) && <RuleLocked groupId={r.groupId} />}
              {mayChange(r) && (
                <>
                  <Switch reaction={r} />
                  <Menu position="bottom-end" shadow="md">
                    <Menu.Target>
                      <Button size="compact-sm" variant="subtle" color="gray" aria-label={`More about ${r.name}`}>
                        More
                      </Button>
                    </Menu.Target>
                    <Menu.Dropdown>
                      <Menu.Item onClick={() => setOpen({ act: "change", reaction: r })}>Change {r.name} …</Menu.Item>
                      <Menu.Item onClick={() => setOpen({ act: "remove", reaction: r })}>Remove {r.name} …</Menu.Item>
                    </Menu.Dropdown>
                  </Menu>
                </>
              )}
            </span>
          </div>
        ))}
      </div>
      {open?.act === "new" && <ReactionEditor groups={mine} mayEverywhere={mayEverywhere} onClose={close} />}
      {open?.act === "change" && (
        <ReactionEditor reaction={open.reaction} groups={mine} mayEverywhere={mayEverywhere} onClose={close} />
      )}
      {open?.act === "remove" && <Remove reaction={open.reaction} onClose={close} />}
    </main>
  );
}

function Runs({ reaction: r }: { reaction: ReactionInfo }) {
  const values = Object.entries(r.values).map(([name, value]) => `${name}=${value}`);
  if (!r.script) return <>runs nothing: what it ran was removed</>;
  return (
    <>
      runs <Link to={`${(r.isRunbook ? runbookShelf : scriptShelf).path}/${r.scriptId}`}>{r.script}</Link>
      {r.number != null && `, version ${r.number}`}
      {values.length > 0 && <span className="mono"> {values.join(" ")}</span>}
    </>
  );
}

function HowItWent({ reaction: r }: { reaction: ReactionInfo }) {
  return (
    <>
      {r.off && <b>switched off</b>}
      {r.off && r.lastAt && <br />}
      {r.lastAt ? (
        <>
          ran {r.ran} {r.ran === 1 ? "time" : "times"}, {r.lastProblem ? "and did not" : "last"} <Ago time={r.lastAt} />
          {r.lastProblem && <span className="trouble run-why"> {r.lastProblem}</span>}
        </>
      ) : (
        !r.off && <span className="muted">has not run yet</span>
      )}
    </>
  );
}

function Switch({ reaction: r }: { reaction: ReactionInfo }) {
  const keep = useKeepReaction(r, () => undefined);
  return (
    <>
      <Button
        size="compact-sm"
        variant="default"
        aria-label={`Switch ${r.name} ${r.off ? "on" : "off"}`}
        loading={keep.isPending}
        onClick={() => keep.mutate({ ...wishOf(r), off: !r.off })}
      >
        Switch {r.off ? "on" : "off"}
      </Button>
      <Trouble error={keep.error} />
    </>
  );
}

function Remove({ reaction, onClose }: { reaction: ReactionInfo; onClose: () => void }) {
  const remove = useRemoveReaction(onClose);
  return (
    <Modal opened onClose={onClose} title={`Remove ${reaction.name}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>Nothing runs by itself for it any more. Jobs that it made stay.</p>
        <Trouble error={remove.error} />
        <Button color="red" variant="filled" loading={remove.isPending} onClick={() => remove.mutate(reaction.id)}>
          {`Remove ${reaction.name}`}
        </Button>
      </div>
    </Modal>
  );
}
