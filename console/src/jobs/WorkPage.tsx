import { Button } from "@mantine/core";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { useScoped } from "../estate/useEstate";
import { JobList } from "./JobList";
import { WorkTabs } from "./WorkTabs";

export function WorkPage() {
  const scoped = useScoped();
  const mayRun = useMe()?.anywhere.includes("run") ?? false;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Work</h1>
        <WorkTabs />
        {mayRun ? (
          <Button size="compact-sm" component={Link} to={scoped("/work/new")} style={{ marginLeft: "auto" }}>
            New job
          </Button>
        ) : (
          <span className="muted">You may run commands nowhere (permission run)</span>
        )}
      </div>
      <JobList />
    </main>
  );
}
