import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { follow } from "../api/live";
import type { EnrolmentPulse } from "../api/types";

/** How many computers wait to be let in; whatever lists them is read again whenever that changes. */
export function useWaiting(): number {
  const queries = useQueryClient();
  const [waiting, setWaiting] = useState(0);
  useEffect(
    () =>
      follow<EnrolmentPulse>(
        "Enrolments",
        [],
        (pulse) => {
          setWaiting(pulse.waiting);
          void queries.invalidateQueries({ queryKey: ["enrolments"] });
          void queries.invalidateQueries({ queryKey: ["installers"] });
        },
        () => undefined,
      ),
    [queries],
  );
  return waiting;
}
