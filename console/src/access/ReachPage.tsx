import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { AccessMatrix, MatrixGrant } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { readable } from "../estate/hostList";
import { minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { GiveRole } from "./GiveRole";
import { reachOf } from "./grants";
import { PageNeeds } from "./PageNeeds";
import { PeopleTabs } from "./PeopleTabs";

/** Technicians against customers: at each crossing the roles that reach the customer, or a part of it. */
export function ReachPage() {
  return (
    <PageNeeds permission="administer" title="Who reaches what" tabs={<PeopleTabs />}>
      <main className="page">
        <div className="page-head">
          <h1>Who reaches what</h1>
          <PeopleTabs />
        </div>
        <Matrix />
      </main>
    </PageNeeds>
  );
}

function Matrix() {
  const matrix = useQuery({
    queryKey: ["matrix"],
    queryFn: () => ask(api.GET("/api/v1/access/matrix")) as Promise<AccessMatrix>,
  });
  const [giving, setGiving] = useState<{ technician: string; at: string }>();
  if (!matrix.data) return <Trouble error={matrix.error} />;
  const { customers, rows } = matrix.data;
  return (
    <>
      <div className="matrix-frame" tabIndex={0} role="region" aria-label="Technicians and customers">
        <table className="matrix">
          <thead>
            <tr>
              <th scope="col">Technician</th>
              {customers.map((c) => (
                <th key={c} scope="col">
                  <span className="whose">
                    <Emblem customer={c} size={20} />
                    <Link to={`/hosts?scope=${encodeURIComponent(c)}`}>{c}</Link>
                  </span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.technicianId}>
                <th scope="row">{row.technician}</th>
                {row.cells.map((cell, i) => {
                  const customer = customers[i] ?? "";
                  return (
                    <td key={customer}>
                      {cell.grants.map((g) => (
                        <Crossing key={g.id} grant={g} customer={customer} />
                      ))}
                      <Button
                        className="matrix-give"
                        size="compact-xs"
                        variant="subtle"
                        color="gray"
                        aria-label={`Give ${row.technician} a role on ${customer}`}
                        onClick={() => setGiving({ technician: row.technician, at: customer })}
                      >
                        Give a role
                      </Button>
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {giving && (
        <GiveRole to={{ technician: giving.technician }} at={giving.at} onClose={() => setGiving(undefined)} />
      )}
    </>
  );
}

function Crossing({ grant, customer }: { grant: MatrixGrant; customer: string }) {
  const reach = reachOf(grant, customer);
  const told = [
    reach === "part" && `only ${readable((grant.groupPath ?? "").slice(customer.length + 1))}`,
    grant.team && `team ${grant.team}`,
    grant.endsAt && `${grant.ended ? "ended" : "until"} ${minute(grant.endsAt)}`,
    reach === "all" && "on everything",
  ].filter(Boolean);
  return (
    <div className={grant.ended ? "crossing muted" : "crossing"}>
      <b>{grant.role}</b>
      {told.length > 0 && <span className="muted">{told.join(" · ")}</span>}
    </div>
  );
}
