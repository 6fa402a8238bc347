import { Button } from "@mantine/core";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { useScoped } from "../estate/useEstate";
import { JobList } from "./JobList";
import { WorkTabs } from "./WorkTabs";

export function WorkPage() {
  const scoped = useScoped();
  const anywhere = useMe()?.anywhere;
  const mayRun = anywhere?.includes("run") ?? false;
  const mayWrite = anywhere?.includes("write-files") ?? false;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Work</h1>
        <WorkTabs />
        {mayRun || mayWrite ? (
          <Button
            size="compact-sm"
            component={Link}
            to={scoped(mayRun ? "/work/new" : "/work/new?files")}
            style={{ marginLeft: "auto" }}
          >
            {mayRun ? "New job" : "Put files on hosts"}
          </Button>
        ) : (
          <span className="muted">You may run commands nowhere (permission run)</span>
        )}
      </div>
      <JobList />
    </main>
  );
}
