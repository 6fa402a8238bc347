import { Button, Select } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import type { HostPolicy, HostPolicyPart, PolicyPlace } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { groupChoices, useGroups } from "../estate/useGroups";
import { minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { RulesTabs } from "../health/RulesTabs";
import { PolicyEditor } from "./PolicyEditor";
import {
  actList,
  actWords,
  consentWords,
  giveScreenShort,
  noticeWords,
  putOffWords,
  recordWords,
  rootsWords,
} from "./policyWords";
import { useMe } from "./useMay";
import { type PolicyAt, usePolicies } from "./usePolicy";

/** What hosts allow, place by place: the nearest one that says something counts. */
export function PoliciesPage() {
  const policies = usePolicies();
  const { groups } = useGroups();
  const me = useMe();
  const [scope] = useScope();
  const [editing, setEditing] = useState<PolicyAt>();
  const places = (policies.data ?? []).filter((p) => !scope || within(p, scope));
  const mine = groups.filter((g) => g.may.includes("administer") && (!scope || isAtOrBelow(g.path, scope)));
  return (
    <main className="page">
      <div className="page-head">
        <h1>Rules</h1>
        <RulesTabs />
        {mine.length > 0 && (
          <Select
            aria-label="Say something for a group"
            placeholder="Say something for a group …"
            style={{ marginLeft: "auto", width: 300 }}
            data={groupChoices(mine)}
            value={null}
            searchable
            onChange={(path) => {
              const group = groups.find((g) => g.path === path);
              if (group) setEditing({ group: group.id });
            }}
          />
        )}
      </div>
      <p className="muted" style={{ marginTop: 0 }}>
        What hosts allow at all, whoever asks. The nearest place that says something counts; the agents keep to it, and
        a file on the computer can narrow it further.
      </p>
      <Trouble error={policies.error} />
      <div className="matrix-frame" tabIndex={0} role="region" aria-label="Places and what they say">
        <table className="matrix policies">
          <thead>
            <tr>
              <th scope="col">Place</th>
              <th scope="col">Allowed</th>
              <th scope="col">Consent</th>
              <th scope="col">Notice</th>
              <th scope="col">Access key for</th>
              <th scope="col">Restart</th>
              <th scope="col">Recording</th>
              <th scope="col">Files</th>
              <th scope="col">Screen</th>
              <th scope="col">
                <span className="hidden-text">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {!scope && !places.some((p) => !p.id) && (
              <Row
                name="Everything"
                own={{}}
                wanted={everything}
                onEdit={me?.everywhere.includes("administer") ? () => setEditing("everything") : undefined}
              />
            )}
            {places.map((p) => (
              <Row
                key={p.id ?? "everything"}
                name={p.id ? <PlaceName place={p} /> : "Everything"}
                own={p.own}
                wanted={p.wanted}
                said={`${p.changedBy}, ${minute(p.changedAt)}`}
                onEdit={
                  (p.id ? groups.find((g) => g.path === p.groupPath)?.may : me?.everywhere)?.includes("administer")
                    ? () => setEditing(!p.id ? "everything" : p.isHost ? { host: p.id } : { group: p.id })
                    : undefined
                }
              />
            ))}
          </tbody>
        </table>
      </div>
      {editing && <PolicyEditor at={editing} onClose={() => setEditing(undefined)} />}
    </main>
  );
}

const everything: HostPolicy = {
  allowed: ["watch", "control", "shell", "run", "read-files", "write-files", "power", "software"],
  consent: "never",
  notice: "none",
  keyFor: [],
};

const isAtOrBelow = (path: string, scope: string) => path === scope || path.startsWith(`${scope}/`);

/** What is said for everything, and above the scope, counts in it too. */
const within = (p: PolicyPlace, scope: string) =>
  !p.groupPath || isAtOrBelow(p.groupPath, scope) || (!p.isHost && isAtOrBelow(scope, p.groupPath));

function PlaceName({ place }: { place: PolicyPlace }) {
  const path = place.groupPath ?? "";
  return (
    <span className="whose">
      <Emblem customer={customerOf(path)} size={20} />
      {place.isHost ? (
        <span>
          <Link to={`/hosts/${place.id}`}>{place.place}</Link>
          <span className="muted">this host alone, in {readable(path)}</span>
        </span>
      ) : (
        <Link to={`/hosts?scope=${encodeURIComponent(path)}`}>{readable(path)}</Link>
      )}
    </span>
  );
}

function Row({
  name,
  own,
  wanted,
  said,
  onEdit,
}: {
  name: React.ReactNode;
  own: HostPolicyPart;
  wanted: HostPolicy;
  said?: string;
  onEdit: (() => void) | undefined;
}) {
  const keyFor = wanted.keyFor ?? [];
  return (
    <tr>
      <th scope="row">
        {name}
        {said && <span className="muted">said by {said}</span>}
      </th>
      <Cell said={own.allowed}>{actList(wanted.allowed)}</Cell>
      <Cell said={own.consent}>{consentWords(wanted.consent)}</Cell>
      <Cell said={own.notice}>{noticeWords(wanted.notice)}</Cell>
      <Cell said={own.keyFor}>{keyFor.length === 0 ? "nothing" : keyFor.map(actWords).join(", ")}</Cell>
      <Cell said={own.putOffMinutes}>{putOffWords(wanted.putOffMinutes)}</Cell>
      <Cell said={own.record}>{recordWords(wanted.record)}</Cell>
      <Cell said={own.fileRoots}>{rootsWords(wanted.fileRoots)}</Cell>
      <Cell said={own.giveScreen}>{giveScreenShort(wanted.giveScreen)}</Cell>
      <td>
        {onEdit && (
          <Button size="compact-xs" variant="default" onClick={onEdit}>
            Change
          </Button>
        )}
      </td>
    </tr>
  );
}

/** Plain when the place says it itself, muted when it comes from above. */
function Cell({ said, children }: { said: unknown; children: React.ReactNode }) {
  const here = said !== undefined && said !== null;
  return (
    <td className={here ? undefined : "muted"}>
      {children}
      {!here && <span className="hidden-text"> (not said here)</span>}
    </td>
  );
}
