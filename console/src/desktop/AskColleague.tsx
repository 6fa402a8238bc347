import { Button, Modal, TextInput } from "@mantine/core";
import { IconUserPlus } from "@tabler/icons-react";
import { useState } from "react";
import { useMe } from "../access/useMay";
import type { HostSummary } from "../api/types";
import { Trouble } from "../parts/Trouble";
import {
  sendInvitation,
  useColleagues,
  useInvitationAct,
  useInvitations,
  withdrawInvitation,
} from "../sessions/useInvitations";

/** Asks somebody else to the desktop at which one is. */
export function AskColleague({
  host,
  there,
  screen,
  inPortal,
}: {
  host: HostSummary;
  there: boolean;
  /** At which one is. */
  screen: string | undefined;
  inPortal: boolean;
}) {
  const [open, setOpen] = useState(false);
  const [note, setNote] = useState("");
  const colleagues = useColleagues(host.id, open);
  const send = useInvitationAct(sendInvitation);
  const ask = (to: string) =>
    send.mutate(
      { hostId: host.id, to, note, screen },
      {
        onSuccess: () => {
          setOpen(false);
          setNote("");
        },
      },
    );
  return (
    <>
      <Button
        size="compact-sm"
        variant="default"
        leftSection={<IconUserPlus size={14} aria-hidden="true" />}
        disabled={!there}
        title={there ? undefined : "Nothing is shown yet"}
        onClick={() => setOpen(true)}
      >
        Ask a colleague
      </Button>
      <Modal
        opened={open}
        onClose={() => setOpen(false)}
        title={`Ask somebody to ${host.label}`}
        className="ask-colleague"
        withinPortal={inPortal}
      >
        {colleagues.data?.length === 0 ? (
          <p>Nobody else may look at {host.label}. Whoever administers it can grant that under People.</p>
        ) : (
          <>
            <TextInput
              label="What it is about"
              placeholder="the till hangs at the same place again"
              value={note}
              onChange={(e) => setNote(e.currentTarget.value)}
            />
            <ul>
              {colleagues.data?.map((c) => (
                <li key={c.id}>
                  <Button
                    size="compact-sm"
                    variant="default"
                    loading={send.isPending && send.variables.to === c.id}
                    onClick={() => ask(c.id)}
                  >
                    Ask {c.name}
                  </Button>
                  <span className="muted">
                    {c.isHere ? "is here" : "is not here now"}, may {c.mayControl ? "watch and control" : "watch"}
                  </span>
                </li>
              ))}
            </ul>
          </>
        )}
        <Trouble error={colleagues.error ?? send.error} />
      </Modal>
    </>
  );
}

/** What has become of asking colleagues to this desktop. */
export function AskedWords({ host }: { host: HostSummary }) {
  const me = useMe();
  const asked = useInvitations().filter((i) => i.fromId === me?.id && i.hostId === host.id);
  const withdraw = useInvitationAct(withdrawInvitation);
  return asked.map((i) => (
    <p key={i.id} className="desktop-word" role="status">
      {i.to} {i.state === "open" ? "is asked to come." : i.state === "accepted" ? "comes." : "does not come now."}
      <Button size="compact-sm" variant="default" onClick={() => withdraw.mutate(i.id)}>
        {i.state === "open" ? `Don’t ask ${i.to} any more` : "Put this word away"}
      </Button>
    </p>
  ));
}
