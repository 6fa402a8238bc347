import { Button, Menu } from "@mantine/core";
import { IconKey } from "@tabler/icons-react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useMay } from "../access/useMay";
import { api, ask } from "../api/client";
import type { SecretInfo } from "../api/types";
import type { DesktopLine } from "./desktopLine";

/** Types a logon of the vault where the keys go, without showing it to whoever does. */
export function TypeSecret({ line, inPortal }: { line: DesktopLine; inPortal: boolean }) {
  const { host } = line;
  const may = useMay(host.groupPath)("use-secrets");
  const params = { params: { path: { id: host.id } } };
  const logons = useQuery({
    queryKey: ["logons", host.id],
    enabled: may,
    queryFn: async () => (await ask(api.GET("/api/v1/hosts/{id}/logons", params))).items as SecretInfo[],
  });
  const type = useMutation({
    mutationFn: ({ id, enter }: { id: string; enter: boolean }) =>
      ask(api.POST("/api/v1/hosts/{id}/typing", { ...params, body: { secretId: id, enter } })),
    onError: (e) => line.say(`The secret was not typed: ${e.message}`),
  });
  if (!may || !logons.data) return null;
  return (
    <Menu position="bottom-start" shadow="md" withinPortal={inPortal}>
      <Menu.Target>
        <Button
          size="compact-sm"
          variant="default"
          loading={type.isPending}
          leftSection={<IconKey size={14} aria-hidden="true" />}
        >
          Type a secret
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>
          {logons.data.length === 0
            ? `The vault keeps no logon of ${host.label} or its groups`
            : "Typed where the cursor stands, unseen by you; what shows its text shows it to everybody who looks"}
        </Menu.Label>
        {logons.data.flatMap((s) => [
          <Menu.Item key={s.id} onClick={() => type.mutate({ id: s.id, enter: false })}>
            {s.name}{" "}
            <span className="muted">
              {s.userName ? `of ${s.userName}, ` : ""}
              {s.place}
            </span>
          </Menu.Item>,
          <Menu.Item key={`${s.id} enter`} onClick={() => type.mutate({ id: s.id, enter: true })}>
            {s.name}, then Enter
          </Menu.Item>,
        ])}
      </Menu.Dropdown>
    </Menu>
  );
}
