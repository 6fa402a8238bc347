import { Modal } from "@mantine/core";
import { Link } from "react-router";
import type { CheckInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";
import { ProbeState } from "./ProbeState";
import { figureWords, isBad } from "./probeWords";
import { useProbedHosts } from "./useProbes";

/** Where a check stands on each of its hosts, the bad ones first. */
export function ProbedHosts({ check, onClose }: { check: CheckInfo; onClose: () => void }) {
  const hosts = useProbedHosts(check.key);
  const rows =
    hosts.data &&
    [...hosts.data].sort((a, b) => Number(isBad(b.result?.state, b.past)) - Number(isBad(a.result?.state, a.past)));
  return (
    <Modal opened onClose={onClose} size="xl" title={`${check.name}, host by host`}>
      <div className="stack">
        <p className="muted" style={{ margin: 0 }}>
          Raised when {check.looks}.
        </p>
        <Trouble error={hosts.error} />
        {rows?.length === 0 && <p style={{ margin: 0 }}>It is for no host.</p>}
        {rows && rows.length > 0 && (
          <table className="plain">
            <thead>
              <tr>
                <th scope="col">Host</th>
                <th scope="col">State</th>
                <th scope="col">Found</th>
                <th scope="col">Since</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((h) => (
                <tr key={h.hostId}>
                  <td>
                    <Link to={`/hosts/${h.hostId}`}>{h.label}</Link>
                    <div className="muted">{readable(h.groupPath)}</div>
                  </td>
                  <td>
                    <ProbeState state={h.result?.state} past={h.past} />
                  </td>
                  <td>
                    {h.result?.says ?? "Its agent has told nothing yet."}
                    {h.result && h.result.figures.length > 0 && (
                      <div className="muted">{h.result.figures.map(figureWords).join(", ")}</div>
                    )}
                  </td>
                  <td>{h.result && <Ago time={h.result.since} suffix="" />}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </Modal>
  );
}
