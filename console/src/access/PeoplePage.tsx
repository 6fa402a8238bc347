import { Button, Menu, Modal, PasswordInput, Select, Switch, TextInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { TeamInfo, TechnicianInfo } from "../api/types";
import { Empty, Trouble } from "../parts/Trouble";
import { GiveRole, type Holder } from "./GiveRole";
import { GrantList } from "./GrantList";
import { MailAddress } from "./MailAddress";
import { PeopleTabs } from "./PeopleTabs";
import { useAccessAct, useGrants, useTeams, useTechnicians } from "./useAccess";
import { useMe } from "./useMay";

/** Who signs in, in which teams, and what each may do where. */
export function PeoplePage() {
  const me = useMe();
  const { technicians, error } = useTechnicians();
  const { teams, error: teamsError } = useTeams();
  const { grants, error: grantsError } = useGrants();
  const [giving, setGiving] = useState<Holder>();
  const [making, setMaking] = useState<"technician" | "team">();
  const [removing, setRemoving] = useState<TechnicianInfo>();
  const [lost, setLost] = useState<TechnicianInfo>();
  const [mail, setMail] = useState<TechnicianInfo>();
  const lead = me?.everywhere.includes("administer") ?? false;
  const gives = me?.anywhere.includes("administer") ?? false;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Technicians</h1>
        <PeopleTabs />
        {lead && (
          <span className="acts" style={{ marginLeft: "auto" }}>
            <Button variant="default" size="sm" onClick={() => setMaking("team")}>
              New team
            </Button>
            <Button variant="filled" size="sm" onClick={() => setMaking("technician")}>
              New technician
            </Button>
          </span>
        )}
      </div>
      {me && !gives && (
        <p className="muted">
          You see your own grants. {me.canChange.join(", ")} can change them, and sees everybody’s.
        </p>
      )}
      <Trouble error={error ?? teamsError ?? grantsError} />
      <div className="rows">
        {technicians.map((t) => (
          <div key={t.id} className="row person-row">
            <span className="host-name">
              <b>{t.name}</b>
              <span>
                {[
                  t.id === me?.id && "you",
                  t.teams.length > 0 && `team ${t.teams.join(", ")}`,
                  t.secondFactor ? "second factor" : "password alone",
                  t.mail,
                ]
                  .filter(Boolean)
                  .join(" · ")}
              </span>
            </span>
            <GrantList
              grants={grants.filter((g) => g.technicianId === t.id || (g.teamId && t.teams.includes(g.holder)))}
              own={(g) => g.technicianId === t.id}
            />
            <span className="acts">
              {gives && (
                <Button size="compact-sm" variant="default" onClick={() => setGiving({ technician: t.name })}>
                  Give {t.name.split(" ")[0]} a role
                </Button>
              )}
              {lead && (
                <Menu position="bottom-end" shadow="md">
                  <Menu.Target>
                    <Button size="compact-sm" variant="subtle" color="gray" aria-label={`More about ${t.name}`}>
                      More
                    </Button>
                  </Menu.Target>
                  <Menu.Dropdown>
                    {t.secondFactor && t.id !== me?.id && (
                      <Menu.Item onClick={() => setLost(t)}>{t.name} has lost the second factor …</Menu.Item>
                    )}
                    <Menu.Item onClick={() => setMail(t)}>Mail address of {t.name} …</Menu.Item>
                    <Menu.Item onClick={() => setRemoving(t)}>Remove {t.name} …</Menu.Item>
                  </Menu.Dropdown>
                </Menu>
              )}
            </span>
          </div>
        ))}
      </div>
      {mail && (
        <Modal opened onClose={() => setMail(undefined)} title={`Mail address of ${mail.name}`}>
          <MailAddress id={mail.id} own={mail.id === me?.id} />
        </Modal>
      )}
      <Required lead={lead} />
      <section aria-labelledby="teams-title" style={{ marginTop: 22 }}>
        <div className="page-head" style={{ marginBottom: 8 }}>
          <h2 id="teams-title">Teams</h2>
          <span className="muted">What a team is given, everybody in it has</span>
        </div>
        {teams.length === 0 ? (
          <Empty title="No team yet">{lead ? "Make one with “New team”." : "A lead makes them."}</Empty>
        ) : (
          <div className="rows">
            {teams.map((team) => (
              <div key={team.id} className="row person-row">
                <span className="host-name">
                  <b>{team.name}</b>
                </span>
                <span>
                  <Members team={team} technicians={technicians} lead={lead} />
                  <GrantList grants={grants.filter((g) => g.teamId === team.id)} own={() => true} />
                </span>
                <span className="acts">
                  {gives && (
                    <Button size="compact-sm" variant="default" onClick={() => setGiving({ team: team.name })}>
                      Give {team.name} a role
                    </Button>
                  )}
                </span>
              </div>
            ))}
          </div>
        )}
      </section>
      {giving && <GiveRole to={giving} onClose={() => setGiving(undefined)} />}
      {making === "technician" && <NewTechnician onClose={() => setMaking(undefined)} />}
      {making === "team" && <NewTeam onClose={() => setMaking(undefined)} />}
      {lost && <Lost technician={lost} onClose={() => setLost(undefined)} />}
      {removing && <Remove technician={removing} onClose={() => setRemoving(undefined)} />}
    </main>
  );
}

/** Whether everybody needs a second factor. */
function Required({ lead }: { lead: boolean }) {
  const queries = useQueryClient();
  const settings = useQuery({
    queryKey: ["sign-in-settings"],
    queryFn: () => ask(api.GET("/api/v1/settings/sign-in")),
  });
  const set = useAccessAct(
    (secondFactorRequired: boolean) => ask(api.PUT("/api/v1/settings/sign-in", { body: { secondFactorRequired } })),
    () => void queries.invalidateQueries({ queryKey: ["sign-in-settings"] }),
  );
  const required = settings.data?.secondFactorRequired ?? false;
  return (
    <div style={{ marginTop: 14 }}>
      {lead ? (
        <Switch
          label="Everybody needs a second factor; whoever has none may only set one up"
          checked={required}
          onChange={(e) => set.mutate(e.currentTarget.checked)}
        />
      ) : (
        <p className="muted">
          {required ? "Everybody needs a second factor here." : "A second factor is everybody’s own choice here."}
        </p>
      )}
      <Trouble error={settings.error ?? set.error} />
    </div>
  );
}

function Lost({ technician, onClose }: { technician: TechnicianInfo; onClose: () => void }) {
  const reset = useAccessAct(
    () => ask(api.POST("/api/v1/technicians/{id}/reset-second-factor", { params: { path: { id: technician.id } } })),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={`${technician.name} has lost the second factor`}>
      <div className="stack">
        <p style={{ margin: 0 }}>
          Be sure that it is {technician.name} who asks, by another way than the one it came by. The second factor goes,{" "}
          {technician.name} is signed out everywhere, and the password alone opens until another is set up.
        </p>
        <Trouble error={reset.error} />
        <Button variant="filled" loading={reset.isPending} onClick={() => reset.mutate(undefined)}>
          Take away the second factor of {technician.name}
        </Button>
      </div>
    </Modal>
  );
}

function Members({ team, technicians, lead }: { team: TeamInfo; technicians: TechnicianInfo[]; lead: boolean }) {
  const put = useAccessAct((technicianId: string) =>
    ask(api.PUT("/api/v1/teams/{id}/members/{technicianId}", { params: { path: { id: team.id, technicianId } } })),
  );
  const takeOut = useAccessAct((technicianId: string) =>
    ask(api.DELETE("/api/v1/teams/{id}/members/{technicianId}", { params: { path: { id: team.id, technicianId } } })),
  );
  const others = technicians.filter((t) => !team.members.some((m) => m.id === t.id));
  return (
    <div className="members">
      {team.members.length === 0 && <span className="muted">nobody in it</span>}
      {team.members.map((m) => (
        <span key={m.id} className="tag">
          {m.name}
          {lead && (
            <button
              type="button"
              className="plain"
              aria-label={`Take ${m.name} out of ${team.name}`}
              title={`Take ${m.name} out of ${team.name}`}
              onClick={() => takeOut.mutate(m.id)}
            >
              ×
            </button>
          )}
        </span>
      ))}
      {lead && others.length > 0 && (
        <Select
          size="xs"
          aria-label={`Put somebody into ${team.name}`}
          placeholder="put somebody in"
          searchable
          data={others.map((t) => ({ value: t.id, label: t.name }))}
          value={null}
          onChange={(id) => id && put.mutate(id)}
        />
      )}
      <Trouble error={put.error ?? takeOut.error} />
    </div>
  );
}

function NewTechnician({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const make = useAccessAct(() => ask(api.POST("/api/v1/technicians", { body: { name, password } })), onClose);
  const ready = name.trim() !== "" && password !== "";
  return (
    <Modal opened onClose={onClose} title="New technician">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined);
        }}
      >
        <TextInput label="Name" data-autofocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <PasswordInput
          label="First password"
          description="12 characters at least"
          autoComplete="new-password"
          value={password}
          onChange={(e) => setPassword(e.currentTarget.value)}
        />
        <Trouble error={make.error} />
        <Button
          type="submit"
          variant="filled"
          loading={make.isPending}
          disabled={!ready}
          title={ready ? undefined : "Write a name and a password first"}
        >
          Add {name.trim() || "a technician"}
        </Button>
        <p className="muted" style={{ margin: 0 }}>
          A new technician may do nothing until you give a role.
        </p>
      </form>
    </Modal>
  );
}

function NewTeam({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const make = useAccessAct(() => ask(api.POST("/api/v1/teams", { body: { name } })), onClose);
  return (
    <Modal opened onClose={onClose} title="New team">
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined);
        }}
      >
        <TextInput label="Name" data-autofocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <Trouble error={make.error} />
        <Button
          type="submit"
          variant="filled"
          loading={make.isPending}
          disabled={!name.trim()}
          title={name.trim() ? undefined : "Write a name first"}
        >
          Make the team {name.trim()}
        </Button>
      </form>
    </Modal>
  );
}

function Remove({ technician, onClose }: { technician: TechnicianInfo; onClose: () => void }) {
  const remove = useAccessAct(
    () => ask(api.DELETE("/api/v1/technicians/{id}", { params: { path: { id: technician.id } } })),
    onClose,
  );
  return (
    <Modal opened onClose={onClose} title={`Remove ${technician.name}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>
          {technician.name} is signed out everywhere at once and can’t sign in any more; all grants go. What{" "}
          {technician.name} did stays in every record. This can’t be undone.
        </p>
        <Trouble error={remove.error} />
        <Button variant="filled" loading={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Remove {technician.name}
        </Button>
      </div>
    </Modal>
  );
}
