import { Button, Popover } from "@mantine/core";
import { IconLock } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { AccessExplanation, Permission } from "../api/types";
import { Trouble } from "../parts/Trouble";

/** Where something is not allowed: at a host, or at a group. */
export type Place = { host: string } | { group: string };

/** Why the caller may not do something there, and who could change that, as the service decides it. */
export function WhyNot({ permission, at }: { permission: Permission; at: Place }) {
  const answer = useQuery({
    queryKey: ["access", at],
    queryFn: () =>
      ("host" in at
        ? ask(api.GET("/api/v1/hosts/{id}/access", { params: { path: { id: at.host } } }))
        : ask(
            api.GET("/api/v1/groups/{id}/access", { params: { path: { id: at.group } } }),
          )) as Promise<AccessExplanation>,
  });
  const said = answer.data?.answers.find((a) => a.permission === permission);
  if (answer.error) return <Trouble error={answer.error} />;
  return (
    <p className="why-not">
      <IconLock size={16} aria-hidden="true" />
      <span>{said ? `${said.sentence} ${said.remedy ?? ""}` : "Asking why …"}</span>
    </p>
  );
}

/** Stands in the place of an act that is not allowed, and tells why when it is pressed. */
export function Locked({ permission, at, children }: { permission: Permission; at: Place; children: React.ReactNode }) {
  const [open, setOpen] = useState(false);
  return (
    <Popover opened={open} onChange={setOpen} width={340} position="bottom-end" shadow="md">
      <Popover.Target>
        <Button
          size="compact-sm"
          variant="subtle"
          color="gray"
          leftSection={<IconLock size={14} aria-hidden="true" />}
          aria-label={`${String(children)}: not allowed. Say why`}
          onClick={() => setOpen(!open)}
        >
          {children}
        </Button>
      </Popover.Target>
      <Popover.Dropdown>{open && <WhyNot permission={permission} at={at} />}</Popover.Dropdown>
    </Popover>
  );
}
