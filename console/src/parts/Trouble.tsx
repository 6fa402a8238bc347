import { ServiceProblem } from "../api/client";

/** What went wrong, in the service's own words. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  return (
    <p className="trouble" role="alert">
      {error instanceof ServiceProblem || error instanceof Error ? error.message : "Something went wrong; try again."}
    </p>
  );
}

/** Nothing here yet, and what to do first. */
export function Empty({ title, children }: { title: string; children?: React.ReactNode }) {
  return (
    <div className="empty">
      <b>{title}</b>
      {children}
    </div>
  );
}
