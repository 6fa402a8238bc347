import { Button } from "@mantine/core";
import { Locked } from "../access/WhyNot";
import type { GroupInfo } from "../api/types";

/** Makes a new rule; who may make none anywhere is told why. */
export function NewRule({ groups, onClick, children }: { groups: GroupInfo[]; onClick: () => void; children: string }) {
  const may = groups.some((g) => g.may.includes("configure"));
  const first = groups[0];
  return (
    <span style={{ marginLeft: "auto" }}>
      {may ? (
        <Button variant="filled" onClick={onClick}>
          {children}
        </Button>
      ) : (
        first && (
          <Locked permission="configure" at={{ group: first.id }}>
            {children}
          </Locked>
        )
      )}
    </span>
  );
}

/** Stands where a rule of a place could be changed, and says why it can't be; a rule for everything says who may. */
export const RuleLocked = ({ groupId }: { groupId: string | null | undefined }) =>
  groupId ? (
    <Locked permission="configure" at={{ group: groupId }}>
      Change …
    </Locked>
  ) : (
    <span className="muted">for whoever configures everything</span>
  );
