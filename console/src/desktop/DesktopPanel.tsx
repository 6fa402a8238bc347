import { Button } from "@mantine/core";
import { IconEye, IconHandFinger } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { useMay } from "../access/useMay";
import { Locked, WhyNot } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { HostSummary, ScreenInfo } from "../api/types";
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
          {screens.data?.length === 0 && <p className="muted">{host.label} has no screen that could be shown.</p>}
          {(screens.data ?? []).map((screen) => (
            <div key={screen.name} className="screen-row">
              <span>
                <b className="mono">{screen.name}</b>{" "}
                <span className="muted">{screen.person ? `of ${screen.person}` : "nobody logged in"}</span>
                {screen.problem && <span className="warning"> {screen.problem}</span>}
              </span>
              {!screen.problem && (
                <span className="acts">
                  <Way host={host} screen={only ? undefined : screen.name} as="watch" allowed={may("watch")} />
                  <Way host={host} screen={only ? undefined : screen.name} as="control" allowed={may("control")} />
                </span>
              )}
            </div>
          ))}
        </>
      )}
    </section>
  );
}

function Way({
  host,
  screen,
  as,
  allowed,
}: {
  host: HostSummary;
  screen: string | undefined;
  as: "watch" | "control";
  allowed: boolean;
}) {
  const words = as === "watch" ? "Watch it" : `Control ${host.label}`;
  if (!allowed)
    return (
      <Locked permission={as} at={{ host: host.id }}>
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
