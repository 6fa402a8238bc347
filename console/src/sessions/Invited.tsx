import { Button } from "@mantine/core";
import { IconUsers } from "@tabler/icons-react";
import { useNavigate } from "react-router";
import { useMe } from "../access/useMay";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { answerInvitation, useInvitationAct, useInvitations } from "./useInvitations";

/** A colleague asks one to a desktop: stands above every page until it is answered or lapses. */
export function Invited() {
  const me = useMe();
  const navigate = useNavigate();
  const asked = useInvitations().filter((i) => i.toId === me?.id && i.state === "open");
  const answer = useInvitationAct(answerInvitation);
  if (asked.length === 0) return null;
  return (
    <div className="page" style={{ paddingBottom: 0 }}>
      {asked.map((i) => {
        const come = () =>
          answer.mutate(
            { id: i.id, comes: true },
            {
              onSuccess: () =>
                void navigate(
                  `/hosts/${i.hostId}/desktop?as=watch${i.screen ? `&screen=${encodeURIComponent(i.screen)}` : ""}`,
                ),
            },
          );
        return (
          <div key={i.id} className="invited" role="alert">
            <IconUsers size={18} aria-hidden="true" />
            <span className="invited-words">
              <b>{i.from}</b> asks you to the desktop of <b>{i.hostLabel}</b>{" "}
              <span className="whose">
                <Emblem customer={customerOf(i.groupPath)} size={18} /> of {customerOf(i.groupPath)}
              </span>
              {i.note && <q>{i.note}</q>}{" "}
              <span className="muted">
                <Ago time={i.at} />
              </span>
            </span>
            <span className="acts">
              <Button size="compact-sm" variant="filled" onClick={come}>
                Come and look
              </Button>
              <Button
                size="compact-sm"
                variant="default"
                onClick={() => answer.mutate({ id: i.id, comes: false })}
                aria-label={`Not now, ${i.from}`}
              >
                Not now
              </Button>
            </span>
          </div>
        );
      })}
      <Trouble error={answer.error} />
    </div>
  );
}
