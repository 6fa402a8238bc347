import { Button } from "@mantine/core";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { useScoped } from "../estate/useEstate";
import { WorkTabs } from "../jobs/WorkTabs";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { arrow, folderWords, isOn, progressWords, turnWords, useTwins } from "./twins";

/** Pairs of folders that one keeps in step. */
export function TwinsPage() {
  const me = useMe();
  const mayRead = me?.anywhere.includes("read-files") ?? false;
  const mayWrite = me?.anywhere.includes("write-files") ?? false;
  const { data: twins, error } = useTwins(mayRead);
  const scoped = useScoped();
  return (
    <main className="page">
      <div className="page-head">
        <h1>Twins</h1>
        <WorkTabs />
        {mayWrite && (
          <Button size="compact-sm" component={Link} to="/work/twins/new" style={{ marginLeft: "auto" }}>
            New twin
          </Button>
        )}
      </div>
      <Trouble error={error} />
      {me && !mayRead && (
        <Empty title="Twins are for those who may read files">
          None of your grants holds read-files anywhere; whoever administers can change that.
        </Empty>
      )}
      {twins?.length === 0 && (
        <Empty title="No folders are kept in step yet">
          Name a folder on one host and a folder on another: in each turn the one becomes what the other is, or each
          gets what is new on the other.
        </Empty>
      )}
      {twins && twins.length > 0 && (
        <div className="rows">
          <div className="row twin-row row-head" aria-hidden="true">
            <span>Twin</span>
            <span>Folders</span>
            <span>Last turn</span>
            <span>When</span>
          </div>
          {twins.map((t) => (
            <Link key={t.id} className="row twin-row" to={scoped(`/work/twins/${t.id}`)}>
              <b>{t.name}</b>
              <span className="mono">
                {folderWords(t.first)} {arrow(t.rules)}
                <br />
                {folderWords(t.second)}
              </span>
              <span className={t.turn && (t.turn.conflicts > 0 || t.turn.problems > 0) ? "" : "muted"}>
                {t.turn ? (isOn(t.turn) ? progressWords(t.turn) : turnWords(t.turn)) : "none yet"}
              </span>
              <span>{t.turn && <Ago time={t.turn.endedAt ?? t.turn.beganAt} />}</span>
            </Link>
          ))}
        </div>
      )}
    </main>
  );
}
