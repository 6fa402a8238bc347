import { Button } from "@mantine/core";
import { useState } from "react";
import type { HostSummary, PolicyInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { Trouble } from "../parts/Trouble";
import { PolicyEditor } from "./PolicyEditor";
import {
  actList,
  actWords,
  consentWords,
  isNarrowed,
  noticeWords,
  giveScreenWords,
  putOffWords,
  recordWords,
  rootsWords,
} from "./policyWords";
import { useMay } from "./useMay";
import { usePolicy } from "./usePolicy";
import { Locked } from "./WhyNot";

/** What a host allows right now, where that comes from, and what its own side narrows. */
export function PolicyPanel({ host }: { host: HostSummary }) {
  const policy = usePolicy({ host: host.id });
  const may = useMay(host.groupPath);
  const [editing, setEditing] = useState(false);
  return (
    <section className="panel" aria-labelledby="policy-title">
      <header>
        <h2 id="policy-title">Host policy</h2>
        {may("administer") ? (
          <Button size="compact-sm" variant="default" onClick={() => setEditing(true)}>
            Change for {host.label}
          </Button>
        ) : (
          <Locked permission="administer" at={{ host: host.id }}>
            Change
          </Locked>
        )}
      </header>
      <Trouble error={policy.error} />
      {policy.data && <Said policy={policy.data} label={host.label} />}
      {editing && <PolicyEditor at={{ host: host.id }} onClose={() => setEditing(false)} />}
    </section>
  );
}

function Said({ policy, label }: { policy: PolicyInfo; label: string }) {
  const inForce = policy.side?.inForce ?? policy.wanted;
  const { from, side } = policy;
  const asks = inForce.keyFor ?? [];
  return (
    <>
      {side?.problem && <p className="trouble">{side.problem}</p>}
      {side && !side.problem && isNarrowed(policy.wanted, inForce) && (
        <p className="muted" style={{ marginTop: 0 }}>
          {side.limit
            ? `${label} itself narrows what is wanted of it; only its owner can change that, in the file on it.`
            : `${label} does not keep to all that is wanted of it yet: it has not heard of it, or was installed with less.`}
        </p>
      )}
      <dl className="facts">
        <dt>Allowed</dt>
        <dd>
          {actList(inForce.allowed)} <From place={from.allowed} label={label} />
        </dd>
        <dt>Consent</dt>
        <dd>
          {consentWords(inForce.consent)} <From place={from.consent} label={label} />
        </dd>
        <dt>Notice</dt>
        <dd>
          {noticeWords(inForce.notice)} <From place={from.notice} label={label} />
        </dd>
        <dt>Restart</dt>
        <dd>
          {putOffWords(inForce.putOffMinutes)} <From place={from.putOffMinutes} label={label} />
        </dd>
        <dt>Recording</dt>
        <dd>
          {recordWords(inForce.record)} <From place={from.record} label={label} />
        </dd>
        <dt>Files</dt>
        <dd>
          technicians are let into {rootsWords(inForce.fileRoots)} <From place={from.fileRoots} label={label} />
        </dd>
        <dt>Screen</dt>
        <dd>
          {giveScreenWords(inForce.giveScreen)} <From place={from.giveScreen} label={label} />
        </dd>
        <dt>Access key</dt>
        <dd>
          {asks.length > 0 ? `asked for to ${asks.map(actWords).join(", ")}` : "asked for by nothing"}
          {side?.hasAccessKey
            ? "; one is set"
            : asks.length > 0
              ? "; none is set, so that is refused"
              : "; none is set"}{" "}
          <From place={from.keyFor} label={label} />
          {policy.sameKeyAs && policy.sameKeyAs.length > 0 && (
            <span className="warning" style={{ display: "block" }}>
              {`${policy.sameKeyAs.join(", ")} ${policy.sameKeyAs.length === 1 ? "has" : "have"} the same key. Give each its own: Secrets, below.`}
            </span>
          )}
        </dd>
      </dl>
    </>
  );
}

/** Where a part was said, unless nobody said anything. */
function From({ place, label }: { place: string | null | undefined; label: string }) {
  if (!place) return null;
  return <span className="muted">· {place === label ? "said for this host" : `from ${readable(place)}`}</span>;
}
