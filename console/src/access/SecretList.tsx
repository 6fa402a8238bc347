import { Button, Menu, Modal } from "@mantine/core";
import { IconLock } from "@tabler/icons-react";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { Permission, SecretInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useGroups } from "../estate/useGroups";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { KeepSecret } from "./KeepSecret";
import { RevealSecret } from "./RevealSecret";
import { called, kindWords } from "./secretWords";
import { useSecretAct } from "./useVault";
import { WhyNot, type Place } from "./WhyNot";

/** Secrets, without their texts, and what one may do with each. */
export function SecretList({ secrets, ofOnePlace = false }: { secrets: SecretInfo[]; ofOnePlace?: boolean }) {
  const [seeing, setSeeing] = useState<SecretInfo>();
  const [changing, setChanging] = useState<SecretInfo>();
  const [removing, setRemoving] = useState<SecretInfo>();
  const [why, setWhy] = useState<[SecretInfo, Permission]>();
  const { groups } = useGroups();
  const may = (secret: SecretInfo, permission: "configure" | "reveal-secrets" | "administer") =>
    groups.find((g) => g.path === secret.groupPath)?.may?.includes(permission) ?? true;
  return (
    <>
      <div className="rows">
        {secrets.map((s) => (
          <div key={s.id} className="row secret-row">
            <span className="host-name">
              <b>{s.kind === "logon" ? s.name : kindWords(s.kind)}</b>
              <span>
                {s.kind === "logon" && "logon"}
                {s.userName && <span className="mono"> {s.userName}</span>}
                {s.note && ` · ${s.note}`}
              </span>
            </span>
            {!ofOnePlace && (
              <span className="secret-place">
                <Emblem customer={customerOf(s.groupPath)} />
                <span className="host-name">
                  {s.hostId ? <Link to={`/hosts/${s.hostId}`}>{s.place}</Link> : readable(s.place)}
                  {s.hostId && <span>{readable(s.groupPath)}</span>}
                </span>
              </span>
            )}
            <span className="muted">
              {s.number === 0 ? "on its way to the host" : <Ago time={s.changedAt} />} · {s.changedBy}
            </span>
            <span className="acts">
              <Button
                size="compact-sm"
                variant="default"
                aria-label={`Show ${called(s)} of ${s.place}`}
                onClick={() => setSeeing(s)}
              >
                {may(s, "reveal-secrets") ? "Show …" : "History …"}
              </Button>
              <Menu position="bottom-end" shadow="md">
                <Menu.Target>
                  <Button
                    size="compact-sm"
                    variant="subtle"
                    color="gray"
                    aria-label={`More about ${called(s)} of ${s.place}`}
                  >
                    More
                  </Button>
                </Menu.Target>
                <Menu.Dropdown>
                  <Act may={may(s, "configure")} onAct={() => setChanging(s)} onWhy={() => setWhy([s, "configure"])}>
                    Change …
                  </Act>
                  <Act may={may(s, "administer")} onAct={() => setRemoving(s)} onWhy={() => setWhy([s, "administer"])}>
                    Remove …
                  </Act>
                </Menu.Dropdown>
              </Menu>
            </span>
          </div>
        ))}
      </div>
      {seeing && (
        <RevealSecret secret={seeing} mayReveal={may(seeing, "reveal-secrets")} onClose={() => setSeeing(undefined)} />
      )}
      {changing && (
        <KeepSecret
          at={changing.hostId ? { host: changing.hostId } : { group: changing.groupId ?? "" }}
          place={changing.place}
          secret={changing}
          onClose={() => setChanging(undefined)}
        />
      )}
      {removing && <RemoveSecret secret={removing} onClose={() => setRemoving(undefined)} />}
      {why && (
        <Modal opened onClose={() => setWhy(undefined)} title={`${called(why[0])} of ${why[0].place}`}>
          <WhyNot permission={why[1]} at={placeOf(why[0])} />
        </Modal>
      )}
    </>
  );
}

const placeOf = (secret: SecretInfo): Place =>
  secret.hostId ? { host: secret.hostId } : { group: secret.groupId ?? "" };

/** An act of the menu; where it is not allowed it tells why instead. */
function Act(props: { may: boolean; onAct: () => void; onWhy: () => void; children: React.ReactNode }) {
  return (
    <Menu.Item
      leftSection={props.may ? undefined : <IconLock size={14} aria-label="not allowed; says why" />}
      onClick={props.may ? props.onAct : props.onWhy}
    >
      {props.children}
    </Menu.Item>
  );
}

function RemoveSecret({ secret, onClose }: { secret: SecretInfo; onClose: () => void }) {
  const remove = useSecretAct(
    () => ask(api.DELETE("/api/v1/secrets/{id}", { params: { path: { id: secret.id } } })),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={`Remove ${called(secret)} of ${secret.place}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>
          The vault forgets it with its history, for good.{" "}
          {secret.kind === "access-key" &&
            `${secret.place} keeps its key: nobody can prove it any more who does not know it.`}
        </p>
        <Trouble error={remove.error} />
        <Button color="red" variant="filled" loading={remove.isPending} onClick={() => remove.mutate()}>
          {`Remove ${called(secret)} of ${secret.place}`}
        </Button>
      </div>
    </Modal>
  );
}
