import { Button, Modal } from "@mantine/core";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { ShelfInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { bytes, minute } from "../parts/time";
import { modeText } from "./files";
import type { FileEntry } from "./hostFiles";
import { contentOf, pathIn, useShelf, useShelfAct, useShelfEntries, wayTo } from "./shelves";

/** Rows of one table; more would be slow and are read by nobody. */
const MOST = 500;

/** One shelf, and what lies on it. */
export function ShelfPage() {
  const { id = "" } = useParams();
  const { data: shelf, error } = useShelf(id);
  if (error && !shelf) {
    return (
      <main className="page">
        <Empty title="This shelf can't be shown">
          {error.message} <Link to="/work/shelves">All shelves</Link>
        </Empty>
      </main>
    );
  }
  return shelf ? <Shelf shelf={shelf} /> : <main className="page" />;
}

function Shelf({ shelf }: { shelf: ShelfInfo }) {
  const mayWrite = useMe()?.anywhere.includes("write-files") ?? false;
  const [search, setSearch] = useSearchParams();
  const path = search.get("path") ?? "/";
  const go = (to: string) =>
    setSearch((now) => {
      const next = new URLSearchParams(now);
      if (to === "/") next.delete("path");
      else next.set("path", to);
      return next;
    });
  const { data, error } = useShelfEntries(shelf.id, path);
  const [removing, setRemoving] = useState(false);
  const navigate = useNavigate();
  const remove = useShelfAct(
    () => ask(api.DELETE("/api/v1/shelves/{id}", { params: { path: { id: shelf.id } } })),
    () => void navigate("/work/shelves"),
  );
  return (
    <main className="page">
      <div className="page-head">
        <h1>{shelf.name}</h1>
        {mayWrite && (
          <div className="acts">
            <Button size="compact-sm" component={Link} to={`/work/twins/new?second=shelf:${shelf.id}`}>
              Keep a folder here
            </Button>
            <Button size="compact-sm" variant="default" component={Link} to={`/work/twins/new?first=shelf:${shelf.id}`}>
              Bring it to a host
            </Button>
            <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setRemoving(true)}>
              Remove
            </Button>
          </div>
        )}
      </div>
      <p className="muted">
        {shelf.files === 1 ? "1 file" : `${shelf.files} files`}, {bytes(shelf.bytes)}. Of {readable(shelf.groupPath)},
        made <Ago time={shelf.createdAt} /> by {shelf.createdBy}.
      </p>
      <nav className="shelf-way" aria-label="Where you are on the shelf">
        {wayTo(path).map((step, n, all) => (
          <span key={step.path}>
            {n > 0 && <span className="muted"> / </span>}
            {n < all.length - 1 ? (
              <button type="button" className="link" onClick={() => go(step.path)}>
                {step.name}
              </button>
            ) : (
              <b>{step.name}</b>
            )}
          </span>
        ))}
      </nav>
      <Trouble error={error} />
      {data?.entries.length === 0 && (
        <Empty title="Nothing lies here">
          {path === "/"
            ? "A twin puts something on the shelf: its first folder is a host’s, its second the shelf."
            : "The folder is empty."}
        </Empty>
      )}
      {data && data.entries.length > 0 && (
        <table className="matrix shelf-table" aria-label={`What lies in ${path}`}>
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Size</th>
              <th scope="col">Changed</th>
              <th scope="col">Mode</th>
            </tr>
          </thead>
          <tbody>
            {data.entries.slice(0, MOST).map((e) => (
              <tr key={e.name.text}>
                <th scope="row" className="mono">
                  <Name shelf={shelf} folder={path} entry={e} onGo={go} />
                </th>
                <td>{e.kind === "file" ? bytes(e.bytes) : ""}</td>
                <td>
                  <time dateTime={e.changedAt}>{minute(e.changedAt)}</time>
                </td>
                <td className="mono">{modeText(e)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {data && data.all > Math.min(MOST, data.entries.length) && (
        <p className="muted">
          {data.all} things lie here; the first {Math.min(MOST, data.entries.length)} are shown. All of them:{" "}
          <code>umbrek shelf look</code>
        </p>
      )}
      <Modal opened={removing} onClose={() => setRemoving(false)} title={`Remove ${shelf.name}?`}>
        <p>
          {shelf.files === 0
            ? "Nothing lies on it."
            : `The ${shelf.files === 1 ? "one file" : `${shelf.files} files`} on it, ${bytes(shelf.bytes)}, will be gone for good.`}{" "}
          Folders on hosts stay as they are; twins that use it can take no more turns.
        </p>
        <Trouble error={remove.error} />
        <div className="acts">
          <Button color="red" loading={remove.isPending} onClick={() => remove.mutate(undefined)}>
            Remove the shelf
          </Button>
          <Button variant="default" onClick={() => setRemoving(false)}>
            Keep it
          </Button>
        </div>
      </Modal>
    </main>
  );
}

function Name({
  shelf,
  folder,
  entry,
  onGo,
}: {
  shelf: ShelfInfo;
  folder: string;
  entry: FileEntry;
  onGo: (path: string) => void;
}) {
  const { text, bytes: raw } = entry.name;
  if (entry.kind === "link") {
    return (
      <>
        {text} <span className="muted">→ {entry.target?.text}</span>
      </>
    );
  }
  // A name that is no text has no place in an address.
  if (raw) return <span title="Its name is no UTF-8; a twin brings it to a host">{text}</span>;
  return entry.kind === "folder" ? (
    <button type="button" className="link" onClick={() => onGo(pathIn(folder, text))}>
      {text}/
    </button>
  ) : (
    <a href={contentOf(shelf, pathIn(folder, text))} download>
      {text}
    </a>
  );
}
