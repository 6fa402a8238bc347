import { Button } from "@mantine/core";
import { useState } from "react";
import type { HostSummary } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { ChangeKey } from "./ChangeKey";
import { KeepSecret } from "./KeepSecret";
import { SecretList } from "./SecretList";
import { useMay } from "./useMay";
import { usePolicy } from "./usePolicy";
import { useSecrets } from "./useVault";
import { Locked, WhyNot } from "./WhyNot";

/** What the vault keeps for a host, and the host's access key. */
export function SecretsPanel({ host }: { host: HostSummary }) {
  const may = useMay(host.groupPath);
  const allowed = may("use-secrets") || may("reveal-secrets");
  const { secrets, error, known } = useSecrets({ host: host.id }, allowed);
  const policy = usePolicy({ host: host.id });
  const [keeping, setKeeping] = useState(false);
  const [changing, setChanging] = useState(false);
  const hasKey = policy.data?.side?.hasAccessKey ?? false;
  return (
    <section className="panel" aria-labelledby="secrets-title">
      <header>
        <h2 id="secrets-title">Secrets</h2>
        {allowed &&
          (may("configure") ? (
            <Button size="compact-sm" variant="default" onClick={() => setKeeping(true)}>
              Keep a secret of {host.label}
            </Button>
          ) : (
            <Locked permission="configure" at={{ host: host.id }}>
              Keep a secret
            </Locked>
          ))}
      </header>
      {!allowed ? (
        <WhyNot permission="use-secrets" at={{ host: host.id }} />
      ) : (
        <>
          <Trouble error={error} />
          <SecretList secrets={secrets} ofOnePlace />
          {known && secrets.length === 0 && (
            <p className="muted" style={{ marginTop: 0 }}>
              The vault keeps nothing of {host.label} yet.
            </p>
          )}
          <p style={{ margin: "10px 0 0", display: "flex", gap: 12, alignItems: "center", flexWrap: "wrap" }}>
            <span>{hasKey ? `${host.label} has an access key.` : `${host.label} has no access key.`}</span>
            {may("administer") ? (
              <Button size="compact-sm" variant="default" onClick={() => setChanging(true)}>
                {hasKey ? "Set another …" : "Set the first …"}
              </Button>
            ) : (
              <Locked permission="administer" at={{ host: host.id }}>
                Set another
              </Locked>
            )}
          </p>
        </>
      )}
      {keeping && <KeepSecret at={{ host: host.id }} place={host.label} onClose={() => setKeeping(false)} />}
      {changing && (
        <ChangeKey
          host={host}
          hasKey={hasKey}
          inVault={secrets.some((s) => s.kind === "access-key")}
          onClose={() => setChanging(false)}
        />
      )}
    </section>
  );
}
