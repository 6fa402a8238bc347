import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect } from "react";
import { Navigate, Outlet, Route, Routes } from "react-router";
import { Door } from "./access/Door";
import { NewDevices } from "./access/NewDevices";
import { ServiceProblem } from "./api/client";
import { meQuery } from "./access/useMay";
import { useWaiting } from "./enrolment/useWaiting";
import { Invited } from "./sessions/Invited";
import { useFollowInvitations } from "./sessions/useInvitations";
import { useAlertCount } from "./health/useAlerts";
import { estateStore } from "./estate/estateStore";
import { HostsPage } from "./estate/HostsPage";
import { ScopeLine } from "./estate/ScopeLine";
import { useLine } from "./estate/useEstate";
import { Empty } from "./parts/Trouble";
import { runbookShelf, scriptShelf } from "./jobs/steps";

// Only what the first page needs is loaded first.
const NowPage = lazy(() => import("./health/NowPage").then((m) => ({ default: m.NowPage })));
const WallPage = lazy(() => import("./health/WallPage").then((m) => ({ default: m.WallPage })));
const ComparePage = lazy(() => import("./health/ComparePage").then((m) => ({ default: m.ComparePage })));
const AlertPage = lazy(() => import("./health/AlertPage").then((m) => ({ default: m.AlertPage })));
const ChecksPage = lazy(() => import("./health/ChecksPage").then((m) => ({ default: m.ChecksPage })));
const NoticesPage = lazy(() => import("./health/NoticesPage").then((m) => ({ default: m.NoticesPage })));
const MaintenancePage = lazy(() => import("./health/MaintenancePage").then((m) => ({ default: m.MaintenancePage })));
const ReactionsPage = lazy(() => import("./health/ReactionsPage").then((m) => ({ default: m.ReactionsPage })));
const HostPage = lazy(() => import("./estate/HostPage").then((m) => ({ default: m.HostPage })));
const DesktopPage = lazy(() => import("./desktop/DesktopPage").then((m) => ({ default: m.DesktopPage })));
const ScreensPage = lazy(() => import("./desktop/ScreensPage").then((m) => ({ default: m.ScreensPage })));
const GroupsPage = lazy(() => import("./estate/GroupsPage").then((m) => ({ default: m.GroupsPage })));
const CustomersPage = lazy(() => import("./estate/CustomersPage").then((m) => ({ default: m.CustomersPage })));
const WorkPage = lazy(() => import("./jobs/WorkPage").then((m) => ({ default: m.WorkPage })));
const JobPage = lazy(() => import("./jobs/JobPage").then((m) => ({ default: m.JobPage })));
const NewJobPage = lazy(() => import("./jobs/NewJobPage").then((m) => ({ default: m.NewJobPage })));
const ScriptsPage = lazy(() => import("./jobs/ScriptsPage").then((m) => ({ default: m.ScriptsPage })));
const SearchPage = lazy(() => import("./files/SearchPage").then((m) => ({ default: m.SearchPage })));
const TwinsPage = lazy(() => import("./files/TwinsPage").then((m) => ({ default: m.TwinsPage })));
const TwinPage = lazy(() => import("./files/TwinPage").then((m) => ({ default: m.TwinPage })));
const ShelvesPage = lazy(() => import("./files/ShelvesPage").then((m) => ({ default: m.ShelvesPage })));
const ShelfPage = lazy(() => import("./files/ShelfPage").then((m) => ({ default: m.ShelfPage })));
const NewTwinPage = lazy(() => import("./files/NewTwinPage").then((m) => ({ default: m.NewTwinPage })));
const ScriptPage = lazy(() => import("./jobs/ScriptPage").then((m) => ({ default: m.ScriptPage })));
const NewRunbookPage = lazy(() => import("./jobs/RunbookEditor").then((m) => ({ default: m.NewRunbookPage })));
const NextRunbookPage = lazy(() => import("./jobs/RunbookEditor").then((m) => ({ default: m.NextRunbookPage })));
const NewScriptPage = lazy(() => import("./jobs/ScriptEditor").then((m) => ({ default: m.NewScriptPage })));
const NextVersionPage = lazy(() => import("./jobs/ScriptEditor").then((m) => ({ default: m.NextVersionPage })));
const AuditPage = lazy(() => import("./audit/AuditPage").then((m) => ({ default: m.AuditPage })));
const PeoplePage = lazy(() => import("./access/PeoplePage").then((m) => ({ default: m.PeoplePage })));
const LetInPage = lazy(() => import("./access/LetInPage").then((m) => ({ default: m.LetInPage })));
const AccountPage = lazy(() => import("./access/AccountPage").then((m) => ({ default: m.AccountPage })));
const ReachPage = lazy(() => import("./access/ReachPage").then((m) => ({ default: m.ReachPage })));
const RolesPage = lazy(() => import("./access/RolesPage").then((m) => ({ default: m.RolesPage })));
const VaultPage = lazy(() => import("./access/VaultPage").then((m) => ({ default: m.VaultPage })));
const RecordingsPage = lazy(() => import("./sessions/RecordingsPage").then((m) => ({ default: m.RecordingsPage })));
const RecordingPage = lazy(() => import("./sessions/RecordingPage").then((m) => ({ default: m.RecordingPage })));
const SessionsPage = lazy(() => import("./sessions/SessionsPage").then((m) => ({ default: m.SessionsPage })));
const ShellsPage = lazy(() => import("./shell/ShellsPage").then((m) => ({ default: m.ShellsPage })));
const PoliciesPage = lazy(() => import("./access/PoliciesPage").then((m) => ({ default: m.PoliciesPage })));
const JoinPage = lazy(() => import("./enrolment/JoinPage").then((m) => ({ default: m.JoinPage })));

const InstallerPage = lazy(() => import("./enrolment/InstallerPage").then((m) => ({ default: m.InstallerPage })));
const AgentsPage = lazy(() => import("./enrolment/AgentsPage").then((m) => ({ default: m.AgentsPage })));
const FindPage = lazy(() => import("./enrolment/FindPage").then((m) => ({ default: m.FindPage })));
const OfferPage = lazy(() => import("./enrolment/OfferPage").then((m) => ({ default: m.OfferPage })));

export function App() {
  return (
    <Routes>
      {/* For people who have no account and need none. */}
      <Route
        path="/get/:secret"
        element={
          <Suspense>
            <OfferPage />
          </Suspense>
        }
      />
      <Route path="*" element={<Inside />} />
    </Routes>
  );
}

function Inside() {
  const me = useQuery(meQuery);
  // Ended from elsewhere, or by time: what was seen goes from the screen.
  const ended = me.error instanceof ServiceProblem && me.error.status === 401;
  const outside = !me.isPending && (!me.data || ended);
  useEffect(() => {
    if (outside) estateStore.close();
  }, [outside]);
  if (me.isPending) return null;
  if (!me.data || ended) return <Door />;
  return (
    <Routes>
      <Route
        path="/wall"
        element={
          <Suspense>
            <WallPage />
          </Suspense>
        }
      />
      <Route element={<Frame me={me.data} />}>
        <Route path="/now" element={<NowPage />} />
        <Route path="/now/:id" element={<AlertPage />} />
        <Route path="/hosts" element={<HostsPage />} />
        <Route path="/hosts/groups" element={<GroupsPage />} />
        <Route path="/hosts/customers" element={<CustomersPage />} />
        <Route path="/hosts/compare" element={<ComparePage />} />
        <Route path="/hosts/:id" element={<HostPage />} />
        <Route path="/hosts/screens" element={<ScreensPage />} />
        <Route path="/hosts/:id/desktop" element={<DesktopPage />} />
        <Route path="/work" element={<WorkPage />} />
        <Route path="/work/new" element={<NewJobPage />} />
        <Route path="/work/scripts" element={<ScriptsPage key="scripts" shelf={scriptShelf} />} />
        <Route path="/work/runbooks" element={<ScriptsPage key="runbooks" shelf={runbookShelf} />} />
        <Route path="/work/runbooks/new" element={<NewRunbookPage />} />
        <Route path="/work/runbooks/:id" element={<ScriptPage />} />
        <Route path="/work/runbooks/:id/edit" element={<NextRunbookPage />} />
        <Route path="/work/scripts/new" element={<NewScriptPage />} />
        <Route path="/work/scripts/:id" element={<ScriptPage />} />
        <Route path="/work/scripts/:id/edit" element={<NextVersionPage />} />
        <Route path="/work/files" element={<SearchPage />} />
        <Route path="/work/twins" element={<TwinsPage />} />
        <Route path="/work/twins/new" element={<NewTwinPage />} />
        <Route path="/work/twins/:id" element={<TwinPage />} />
        <Route path="/work/shelves" element={<ShelvesPage />} />
        <Route path="/work/shelves/:id" element={<ShelfPage />} />
        <Route path="/work/:id" element={<JobPage />} />
        <Route path="/people" element={<PeoplePage />} />
        <Route path="/account" element={<AccountPage />} />
        <Route path="/account/client" element={<LetInPage />} />
        <Route path="/people/reach" element={<ReachPage />} />
        <Route path="/people/roles" element={<RolesPage />} />
        <Route path="/people/vault" element={<VaultPage />} />
        <Route path="/sessions" element={<SessionsPage />} />
        <Route path="/sessions/shells" element={<ShellsPage />} />
        <Route path="/sessions/recordings" element={<RecordingsPage />} />
        <Route path="/sessions/recordings/:id" element={<RecordingPage />} />
        <Route path="/people/audit" element={<AuditPage />} />
        <Route path="/rules" element={<ChecksPage />} />
        <Route path="/rules/notices" element={<NoticesPage />} />
        <Route path="/rules/reactions" element={<ReactionsPage />} />
        <Route path="/rules/maintenance" element={<MaintenancePage />} />
        <Route path="/rules/policies" element={<PoliciesPage />} />
        <Route path="/join" element={<JoinPage />} />
        <Route path="/join/agents" element={<AgentsPage />} />
        <Route path="/join/find" element={<FindPage />} />
        <Route path="/join/:id" element={<InstallerPage />} />
        <Route path="/" element={<Navigate to="/now" replace />} />
        <Route
          path="*"
          element={
            <main className="page">
              <Empty title="There is no such page">The places are above.</Empty>
            </main>
          }
        />
      </Route>
    </Routes>
  );
}

function Frame({ me }: { me: Parameters<typeof ScopeLine>[0]["me"] }) {
  useEffect(() => {
    estateStore.open();
    return () => estateStore.close();
  }, []);
  const line = useLine();
  const waiting = useWaiting();
  const alerts = useAlertCount();
  useFollowInvitations();
  return (
    <div className="frame">
      <ScopeLine me={me} waiting={waiting} alerts={alerts} />
      <div>
        <NewDevices me={me} />
        {!me.secondFactorMissing && <Invited />}
        {line === "broken" && estateStore.get().known && (
          <div className="page" style={{ paddingBottom: 0 }}>
            <div className="broken-line" role="alert">
              The line to the service is broken. What you see is the last that was known; it goes on by itself.
            </div>
          </div>
        )}
        {/* Without a second factor that everybody needs there is one page only: where it is set up. */}
        <Suspense fallback={null}>{me.secondFactorMissing ? <AccountPage /> : <Outlet />}</Suspense>
      </div>
    </div>
  );
}
