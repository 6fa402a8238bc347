import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";

/** Which ways of signing in there are besides the password. */
export function useSignInWays() {
  return useQuery({
    queryKey: ["sign-in-ways"],
    queryFn: () => ask(api.GET("/api/v1/sign-in/ways")),
    staleTime: Infinity,
  }).data;
}
