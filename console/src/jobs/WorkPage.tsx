import { JobList } from "./JobList";

export function WorkPage() {
  return (
    <main className="page">
      <div className="page-head">
        <h1>Work</h1>
        <span className="muted">Jobs, newest first</span>
      </div>
      <JobList />
    </main>
  );
}
