import { Button, Checkbox, Modal } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { TurnAct, TwinChoice, TwinFolder, TwinInfo } from "../api/types";
import { useScoped } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { bytes, exact, minute } from "../parts/time";
import {
  actWord,
  folderWords,
  isOn,
  progressWords,
  takeTurn,
  turnWords,
  type TurnWish,
  useTwin,
  useTwinAct,
  useTwinActs,
  wayWords,
} from "./twins";

/** Rows of one table; more would be slow and are read by nobody. */
const MOST = 500;

/** Two folders: how they stand, what the last turn did, and what waits for somebody to decide. */
export function TwinPage() {
  const { id = "" } = useParams();
  const { data: twin, error } = useTwin(id);
  if (error && !twin) {
    return (
      <main className="page">
        <Empty title="This twin can't be shown">
          {error.message} <Link to="/work/twins">All twins</Link>
        </Empty>
      </main>
    );
  }
  return twin ? <Twin twin={twin} /> : <main className="page" />;
}

function Twin({ twin }: { twin: TwinInfo }) {
  const mayWrite = useMe()?.anywhere.includes("write-files") ?? false;
  const navigate = useNavigate();
  const { turn } = twin;
  const on = isOn(turn);
  const acts = useTwinActs(twin.id, turn?.endedAt);
  const [removing, setRemoving] = useState(false);
  const [usesVault, setUsesVault] = useState(false);
  const take = useTwinAct((wish: TurnWish) => takeTurn(twin.id, { ...wish, usesVault }));
  const cancel = useTwinAct(() => ask(api.POST("/api/v1/twins/{id}/cancel", { params: { path: { id: twin.id } } })));
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE("/api/v1/twins/{id}", { params: { path: { id: twin.id } } })),
    onSuccess: () => {
      void navigate("/work/twins");
      // The list alone: there is nothing of it to be asked for any more.
      return queries.invalidateQueries({ queryKey: ["twins"], exact: true });
    },
  });
  const conflicts = acts.data?.filter((a) => a.deed === "conflict") ?? [];
  const others = acts.data?.filter((a) => a.deed !== "conflict") ?? [];
  const lookedEmpty = turn?.state === "failed" && turn.reason?.includes("holds nothing now");
  return (
    <main className="page twin-page">
      <div className="page-head">
        <h1>{twin.name}</h1>
        <div className="acts">
          {on ? (
            <Button
              size="compact-sm"
              variant="default"
              loading={cancel.isPending}
              onClick={() => cancel.mutate(undefined)}
            >
              Cancel the turn
            </Button>
          ) : (
            mayWrite && (
              <>
                <Button size="compact-sm" loading={take.isPending} onClick={() => take.mutate({})}>
                  Take a turn
                </Button>
                <Button size="compact-sm" variant="default" onClick={() => take.mutate({ dryRun: true })}>
                  See what it would do
                </Button>
                <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setRemoving(true)}>
                  Remove
                </Button>
              </>
            )
          )}
        </div>
      </div>
      <div className="twin-sides">
        <Side title="First" folder={twin.first} />
        <Side title="Second" folder={twin.second} />
      </div>
      <p className="muted">
        {wayWords(twin.rules)}.
        {twin.rules.leaves && twin.rules.leaves.length > 0 && ` ${twin.rules.leaves.join(", ")} are left alone.`}
        {twin.rate != null && ` At most ${bytes(twin.rate)} in a second.`}
      </p>
      {mayWrite && !on && (
        <Checkbox
          size="xs"
          label="Where a host asks for its access key, prove it from the vault"
          checked={usesVault}
          onChange={(e) => setUsesVault(e.currentTarget.checked)}
        />
      )}
      <Trouble error={take.error ?? cancel.error} />
      <h2>Last turn</h2>
      {!turn && <p className="muted">None yet. See first what it would do.</p>}
      {turn && on && (
        <div className="to-service" role="status">
          {turn.bytes > 0 && <progress max={turn.bytes} value={turn.bytesDone} aria-label="How much has come" />}
          <span>{progressWords(turn)}</span>
        </div>
      )}
      {turn && !on && (
        <p role="status">
          {turnWords(turn)}, <Ago time={turn.endedAt ?? turn.beganAt} /> by {turn.by}
          {turn.reason && (
            <>
              <br />
              <span className={turn.state === "done" ? "" : "trouble"}>{turn.reason}</span>
            </>
          )}
        </p>
      )}
      {lookedEmpty && mayWrite && (
        <Button size="compact-sm" variant="default" color="red" onClick={() => take.mutate({ thoughEmpty: true })}>
          It is meant to be empty: take the turn
        </Button>
      )}
      {!on && conflicts.length > 0 && (
        <Conflicts
          conflicts={conflicts}
          mayWrite={mayWrite}
          onSettle={(choice, only) => take.mutate({ choice, only })}
        />
      )}
      {!on && others.length > 0 && turn && <Acts acts={others} twin={twin} dryRun={turn.dryRun} />}
      <Modal opened={removing} onClose={() => setRemoving(false)} title={`Remove ${twin.name}?`}>
        <p>Both folders stay as they are. What is remembered of how they stood is forgotten.</p>
        <Trouble error={remove.error} />
        <div className="acts">
          <Button color="red" loading={remove.isPending} onClick={() => remove.mutate()}>
            Remove the twin
          </Button>
          <Button variant="default" onClick={() => setRemoving(false)}>
            Back
          </Button>
        </div>
      </Modal>
    </main>
  );
}

function Side({ title, folder }: { title: string; folder: TwinFolder }) {
  const scoped = useScoped();
  return (
    <section className="twin-side" aria-label={`${title} folder`}>
      <b>{title}</b>
      {folder.label ? (
        <Link to={scoped(folder.shelfId ? `/work/shelves/${folder.shelfId}` : `/hosts/${folder.hostId}`)}>
          {folder.shelfId ? `The shelf ${folder.label}` : folder.label}
        </Link>
      ) : (
        <span>{folder.shelfId ? "a shelf that is gone, or that you may not see" : "a host that you may not see"}</span>
      )}
      <span className="mono">{folder.path.text}</span>
      <span className="muted">{folder.groupPath}</span>
    </section>
  );
}

/** What both sides have changed: nothing is done about it until somebody says whose goes on. */
function Conflicts({
  conflicts,
  mayWrite,
  onSettle,
}: {
  conflicts: TurnAct[];
  mayWrite: boolean;
  onSettle: (choice: TwinChoice, only?: TurnAct["path"][]) => void;
}) {
  const when = (time: string | null | undefined) =>
    time ? <time title={exact(time)}>changed {minute(time)}</time> : "gone";
  return (
    <section className="in-the-way" aria-label="Conflicts">
      <p>
        {conflicts.length === 1 ? "One thing was" : `${conflicts.length} things were`} changed on both sides, and left
        as {conflicts.length === 1 ? "it is" : "they are"}. Whose goes on? The other goes to the trash of its host.
      </p>
      {mayWrite && conflicts.length > 1 && (
        <div className="parcel-acts">
          <Button size="compact-sm" variant="default" onClick={() => onSettle("newer")}>
            Of all, the newer
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => onSettle("first")}>
            Of all, the first
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => onSettle("second")}>
            Of all, the second
          </Button>
        </div>
      )}
      <table className="matrix">
        <thead>
          <tr>
            <th scope="col">Path</th>
            <th scope="col">First</th>
            <th scope="col">Second</th>
            <th scope="col">What is in the way</th>
            {mayWrite && <th scope="col">Whose goes on</th>}
          </tr>
        </thead>
        <tbody>
          {conflicts.slice(0, MOST).map((c) => (
            <tr key={c.path.text}>
              <th scope="row" className="mono">
                {c.path.text}
              </th>
              <td>{when(c.first)}</td>
              <td>{when(c.second)}</td>
              <td>{c.why}</td>
              {mayWrite && (
                <td className="acts">
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`The first’s ${c.path.text}`}
                    onClick={() => onSettle("first", [c.path])}
                  >
                    The first’s
                  </Button>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`The second’s ${c.path.text}`}
                    onClick={() => onSettle("second", [c.path])}
                  >
                    The second’s
                  </Button>
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {conflicts.length > MOST && (
        <p className="muted">{conflicts.length - MOST} more come up once these are settled.</p>
      )}
    </section>
  );
}

function Acts({ acts, twin, dryRun }: { acts: TurnAct[]; twin: TwinInfo; dryRun: boolean }) {
  const hasWhy = acts.some((a) => a.why);
  return (
    <>
      <table className="matrix twin-acts" aria-label={dryRun ? "What a turn would do" : "What the turn did"}>
        <thead>
          <tr>
            <th scope="col">{dryRun ? "Would be" : "What"}</th>
            <th scope="col">Path</th>
            <th scope="col">Size</th>
            <th scope="col">On</th>
            {hasWhy && <th scope="col">Why</th>}
          </tr>
        </thead>
        <tbody>
          {acts.slice(0, MOST).map((a, i) => (
            <tr key={`${a.path.text} ${i}`}>
              <td>{actWord(a, dryRun)}</td>
              <th scope="row" className="mono">
                {a.path.text}
                {a.kind === "folder" ? "/" : ""}
              </th>
              <td>{a.kind === "file" && a.deed === "file" ? bytes(a.bytes) : ""}</td>
              <td title={folderWords(a.to === "first" ? twin.first : twin.second)}>{a.to}</td>
              {hasWhy && <td>{a.why}</td>}
            </tr>
          ))}
        </tbody>
      </table>
      {acts.length > MOST && (
        <p className="muted">
          {acts.length - MOST} more; umbrek twin show {twin.name} lists them.
        </p>
      )}
    </>
  );
}
