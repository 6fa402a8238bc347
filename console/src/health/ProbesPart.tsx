import { Link } from "react-router";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { ProbeState } from "./ProbeState";
import { figureWords } from "./probeWords";
import { useHostProbes } from "./useProbes";

/** What a host's own agent looks at for checks; nothing where it looks at nothing. */
export function ProbesPart({ hostId }: { hostId: string }) {
  const probes = useHostProbes(hostId);
  if (probes.error && !probes.data) return <Trouble error={probes.error} />;
  if (!probes.data || probes.data.length === 0) return null;
  return (
    <section aria-labelledby="probes-title" className="probes">
      <h3 id="probes-title">
        What its agent looks at <Link to="/rules">rules</Link>
      </h3>
      <ul>
        {probes.data.map((p) => (
          <li key={p.check}>
            <ProbeState state={p.result?.state} past={p.past} />
            <span>
              <b>{p.checkName}</b>
              <span className="muted">
                {p.result ? (
                  <>
                    {p.result.says}
                    {p.result.figures.length > 0 && ` · ${p.result.figures.map(figureWords).join(", ")}`} · for{" "}
                    <Ago time={p.result.since} suffix="" />
                  </>
                ) : (
                  `Its agent has told nothing yet of: ${p.looks}.`
                )}
              </span>
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
