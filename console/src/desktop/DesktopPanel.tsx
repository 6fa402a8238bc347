import { Button } from "@mantine/core";
import { IconEye, IconHandFinger } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { useMay } from "../access/useMay";
import { usePolicy } from "../access/usePolicy";
import { Locked, WhyNot } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { HostSummary, Permission, ScreenInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";

/** The ways to a host's desktop: to look on, and to act there, are two doors. */
export function DesktopPanel({ host }: { host: HostSummary }) {
  const may = useMay(host.groupPath);
  const linked = host.presence.state === "linked";
  const screens = useQuery({
    queryKey: ["screens", host.id],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/hosts/{id}/screens", { params: { path: { id: host.id } } }))).items as ScreenInfo[],
    enabled: linked && may("watch"),
    refetchInterval: 15_000,
    staleTime: 0,
  });
  const missing = useMissing(host);
  // Where there is one, it may come back under another name when somebody logs in or out.
  const only = screens.data?.length === 1;
  return (
    <section className="panel" aria-labelledby="desktop-title">
      <header>
        <h2 id="desktop-title">Desktop</h2>
      </header>
      {!may("watch") && !may("control") ? (
        <WhyNot permission="watch" at={{ host: host.id }} />
      ) : !linked ? (
        <p className="muted">{host.label} is away; its desktop takes a host that is linked.</p>
      ) : (
        <>
          <Trouble error={screens.error} />
          {screens.data?.length === 0 && <NoScreen host={host} />}
          {(screens.data ?? []).map((screen) => (
            <div key={screen.name} className="screen-row">
              <span>
                <b className="mono">{screen.name}</b>{" "}
                <span className="muted">
                  {screen.isGiven
                    ? "given to the host for technicians"
                    : screen.person
                      ? `of ${screen.person}`
                      : "nobody logged in"}
                </span>
                {screen.problem && <span className="warning"> {screen.problem}</span>}
              </span>
              {!screen.problem && (
                <span className="acts">
                  <Way
                    host={host}
                    screen={only ? undefined : screen.name}
                    as="watch"
                    missing={may("watch") ? undefined : "watch"}
                  />
                  <Way
                    host={host}
                    screen={only ? undefined : screen.name}
                    as="control"
                    missing={missing(screen.isGiven)}
                  />
                </span>
              )}
            </div>
          ))}
        </>
      )}
    </section>
  );
}

/** A host without a screen is given one when somebody comes to control it, if its policy has it so. */
function NoScreen({ host }: { host: HostSummary }) {
  const missing = useMissing(host);
  const policy = usePolicy({ host: host.id });
  if (!policy.data) return <p className="muted">{host.label} has no screen.</p>;
  if (policy.data.side?.inForce.giveScreen === false)
    return <p className="muted">{`${host.label} has no screen, and its host policy does not have it given one.`}</p>;
  return (
    <div className="screen-row">
      <span className="muted">
        {`${host.label} has no screen. It is given one, with a terminal, when a technician comes to control it; it goes half an hour after the last one has left.`}
      </span>
      <span className="acts">
        <Way host={host} screen={undefined} as="control" missing={missing(true)} />
      </span>
    </div>
  );
}

/** What somebody lacks to act at a screen; one that the host was given has a terminal. */
function useMissing(host: HostSummary): (isGiven: boolean | undefined) => Permission | undefined {
  const may = useMay(host.groupPath);
  return (isGiven) => (!may("control") ? "control" : isGiven && !may("shell") ? "shell" : undefined);
}

function Way({
  host,
  screen,
  as,
  missing,
}: {
  host: HostSummary;
  screen: string | undefined;
  as: "watch" | "control";
  /** The permission that it takes beside those that the person has. */
  missing: Permission | undefined;
}) {
  const words = as === "watch" ? "Watch it" : `Control ${host.label}`;
  if (missing)
    return (
      <Locked permission={missing} at={{ host: host.id }}>
        {words}
      </Locked>
    );
  return (
    <Button
      size="compact-sm"
      variant="default"
      component={Link}
      to={`/hosts/${host.id}/desktop?as=${as}${screen ? `&screen=${encodeURIComponent(screen)}` : ""}`}
      leftSection={
        as === "watch" ? <IconEye size={14} aria-hidden="true" /> : <IconHandFinger size={14} aria-hidden="true" />
      }
    >
      {words}
    </Button>
  );
}
