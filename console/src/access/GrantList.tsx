import { Button, Modal } from "@mantine/core";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { GrantInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { grantWords } from "./grants";
import { useAccessAct } from "./useAccess";

/** Grants, each with the way to end it. */
export function GrantList({ grants, own }: { grants: GrantInfo[]; own: (grant: GrantInfo) => boolean }) {
  const [ending, setEnding] = useState<GrantInfo>();
  if (grants.length === 0) return <span className="muted">no grant that you may know of</span>;
  return (
    <>
      <ul className="grants">
        {grants.map((g) => (
          <li key={g.id} className={g.ended ? "muted" : ""}>
            <span>
              {grantWords(g)}
              {!own(g) && <span className="muted"> by the team {g.holder}</span>}
              {g.note && <span className="muted"> · {g.note}</span>}
            </span>
            {g.mayChange && own(g) && (
              <Button
                size="compact-xs"
                variant="subtle"
                color="gray"
                aria-label={`Revoke ${g.role} on ${g.groupPath ?? "everything"} from ${g.holder}`}
                onClick={() => setEnding(g)}
              >
                Revoke
              </Button>
            )}
          </li>
        ))}
      </ul>
      {ending && <Revoke grant={ending} onClose={() => setEnding(undefined)} />}
    </>
  );
}

function Revoke({ grant, onClose }: { grant: GrantInfo; onClose: () => void }) {
  const revoke = useAccessAct(
    () => ask(api.DELETE("/api/v1/grants/{id}", { params: { path: { id: grant.id } } })),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={`Revoke a role of ${grant.holder}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>
          {grant.holder} is {grantWords(grant)}. Revoked, it ends at once, with every view that is open because of it;
          runs that wait for a host are refused when it returns.
        </p>
        <Trouble error={revoke.error} />
        <Button variant="filled" loading={revoke.isPending} onClick={() => revoke.mutate(undefined)}>
          Revoke {grant.role} from {grant.holder}
        </Button>
      </div>
    </Modal>
  );
}
