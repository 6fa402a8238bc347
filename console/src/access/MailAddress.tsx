import { Button, TextInput } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { useAccessAct, useTechnicians } from "./useAccess";

/** Where notices reach a technician by mail. */
export function MailAddress({ id, own }: { id: string; own: boolean }) {
  const { technicians } = useTechnicians();
  const kept = technicians.find((t) => t.id === id)?.mail ?? "";
  // What was not touched follows what is kept.
  const [typed, setTyped] = useState<string>();
  const queries = useQueryClient();
  const save = useAccessAct(
    (address: string) =>
      own
        ? ask(api.PUT("/api/v1/me/mail", { body: { address } }))
        : ask(api.PUT("/api/v1/technicians/{id}/mail", { params: { path: { id } }, body: { address } })),
    () => {
      setTyped(undefined);
      void queries.invalidateQueries({ queryKey: ["technicians"] });
    },
  );
  return (
    <form
      className="stack"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(typed ?? kept);
      }}
    >
      <TextInput
        label="Mail address"
        description={own ? "Notices to your teams reach you there." : "Notices to teams reach the technician there."}
        type="email"
        value={typed ?? kept}
        onChange={(e) => setTyped(e.currentTarget.value)}
      />
      <Trouble error={save.error} />
      <span className="acts">
        <Button type="submit" variant="default" loading={save.isPending}>
          Keep this address
        </Button>
        <span role="status">{save.isSuccess && typed === undefined && "Kept."}</span>
      </span>
    </form>
  );
}
