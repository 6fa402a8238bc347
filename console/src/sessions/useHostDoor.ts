import { useEffect, useState } from "react";
import { endSession, type HostDoor } from "./hostDoor";

/** The door that this bench has opened; it closes when the bench is left. */
export function useHostDoor(): [HostDoor | undefined, (door: HostDoor | undefined) => void] {
  const [door, setDoor] = useState<HostDoor>();
  useEffect(() => {
    if (!door) return;
    const id = door.session.id;
    return () => void endSession(id).catch(() => undefined);
  }, [door]);
  return [door, setDoor];
}
