import { useMay } from "../access/useMay";
import { usePolicy } from "../access/usePolicy";
import { useSecrets } from "../access/useVault";
import type { HostSummary } from "../api/types";
import type { HostDoor } from "./hostDoor";
import { useHostDoor } from "./useHostDoor";

/** How acts on the host prove its access key, where it asks for one. */
export interface Proof {
  door: HostDoor | undefined;
  usesVault: boolean;
}

/** Whether a host asks for its access key for an act, and what there is to prove it with. */
export function useProof(host: HostSummary, act: "run" | "power" | "read-files" | "write-files" | "watch" | "control") {
  const may = useMay(host.groupPath);
  const [door, setDoor] = useHostDoor();
  const policy = usePolicy({ host: host.id }).data;
  const asksKey = policy?.side?.inForce.keyFor?.includes(act) ?? false;
  const mayUse = asksKey && may("use-secrets");
  const fromVault = useSecrets({ host: host.id }, mayUse).secrets.some((s) => s.kind === "access-key");
  const proof: Proof = { door, usesVault: !door && fromVault };
  return { may, policy, asksKey, door, setDoor, fromVault, proof, ready: !asksKey || door !== undefined || fromVault };
}
