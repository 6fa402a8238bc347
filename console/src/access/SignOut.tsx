import { Button } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { Me } from "../api/types";

export function SignOut({ me }: { me: Me }) {
  const queries = useQueryClient();
  const leave = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/sign-out")),
    onSettled: () => queries.resetQueries(),
  });
  return (
    <Button
      variant="subtle"
      color="gray"
      c="var(--muted)"
      size="compact-sm"
      onClick={() => leave.mutate()}
      title="Sign out of this console"
    >
      {me.name}, sign out
    </Button>
  );
}
