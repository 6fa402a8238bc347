import { Button } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { DeviceInfo } from "../api/types";
import { Ago } from "../parts/Ago";
import { minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { useAccessAct } from "./useAccess";

/** Devices that one has signed in from, known again by what each keeps. */
export function DevicesPanel() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["devices"],
    queryFn: async () => (await ask(api.GET("/api/v1/me/devices"))).items as DeviceInfo[],
    refetchInterval: 30_000,
  });
  const forget = useAccessAct(
    (deviceId: string) => ask(api.DELETE("/api/v1/me/devices/{deviceId}", { params: { path: { deviceId } } })),
    () => void Promise.all(["me", "devices", "sign-ins"].map((key) => queries.invalidateQueries({ queryKey: [key] }))),
  );
  return (
    <section className="panel" aria-labelledby="devices-title">
      <header>
        <h2 id="devices-title">Devices</h2>
      </header>
      <Trouble error={found.error ?? forget.error} />
      {found.data?.map((d) => (
        <div key={d.id} className="row passkey-row">
          <span className="host-name">
            <b>{d.device}</b>
            <span>
              {d.here ? "this one" : <Ago time={d.lastSeenAt} />}, first {minute(d.firstSeenAt)}
              {d.isNew && " · new"}
              {d.rememberedUntil && ` · no code until ${minute(d.rememberedUntil)}`}
            </span>
          </span>
          {!d.here && (
            <Button
              size="compact-sm"
              variant="subtle"
              color="gray"
              aria-label={`Forget ${d.device}`}
              onClick={() => forget.mutate(d.id)}
            >
              Forget
            </Button>
          )}
        </div>
      ))}
      <p className="muted" style={{ margin: 0 }}>
        A forgotten device is signed out, and is a new one when it comes again.
      </p>
    </section>
  );
}
