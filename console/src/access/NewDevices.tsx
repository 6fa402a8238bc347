import { Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { Me } from "../api/types";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { useAccessAct } from "./useAccess";

/** A device that signed in as the caller and that he has not said is his: on top of every page, until he says. */
export function NewDevices({ me }: { me: Me }) {
  const queries = useQueryClient();
  const again = () =>
    void Promise.all(["me", "devices", "sign-ins"].map((key) => queries.invalidateQueries({ queryKey: [key] })));
  const confirm = useAccessAct(
    (deviceId: string) => ask(api.POST("/api/v1/me/devices/{deviceId}/confirm", { params: { path: { deviceId } } })),
    again,
  );
  const forget = useAccessAct(
    (deviceId: string) => ask(api.DELETE("/api/v1/me/devices/{deviceId}", { params: { path: { deviceId } } })),
    again,
  );
  const device = me.newDevices[0];
  if (!device) return null;
  return (
    <div className="page" style={{ paddingBottom: 0 }}>
      <div className="new-device" role="alert">
        <span>
          <b>{device.device}</b> signed in as you <Ago time={device.firstSeenAt} /> from{" "}
          <span className="mono">{device.address ?? "somewhere"}</span>, for the first time. Was that you?
        </span>
        <span className="acts">
          <Button size="compact-sm" variant="default" onClick={() => confirm.mutate(device.id)}>
            It is mine
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => forget.mutate(device.id)}>
            Not mine: end it
          </Button>
        </span>
        <Trouble error={confirm.error ?? forget.error} />
        {forget.isSuccess && (
          <span>
            It is signed out. Change your password now, <Link to="/account">under your name</Link>.
          </span>
        )}
      </div>
    </div>
  );
}
