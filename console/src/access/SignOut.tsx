import { Button } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import { Link } from "react-router";
import type { Me } from "../api/types";

export function SignOut({ me }: { me: Me }) {
  const queries = useQueryClient();
  const leave = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/sign-out")),
    onSettled: () => queries.resetQueries(),
  });
  return (
    <span className="own">
      <Link to="/account" title="Your sign-ins, tokens, password and second factor">
        {me.name}
      </Link>
      <Button
        variant="subtle"
        color="gray"
        c="var(--muted)"
        size="compact-sm"
        onClick={() => leave.mutate()}
        title="Sign out of this console"
      >
        sign out
      </Button>
    </span>
  );
}
