import { Button, Checkbox, Modal, TextInput } from "@mantine/core";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { SelectionField } from "../estate/SelectionField";
import { useHostsByName, useScoped } from "../estate/useEstate";
import { useSelected } from "../estate/useSelected";
import { WorkTabs } from "../jobs/WorkTabs";
import { csvOf, save, saveBlob } from "../parts/file";
import { Empty } from "../parts/Trouble";
import { bytes, minute } from "../parts/time";
import { FetchList, type FetchRow } from "./FetchList";
import { type Fetching, FileFetch } from "./fetching";
import { Gathering, reachFilesWith } from "./gathering";
import { Problems } from "./Problems";
import { FilesSearch, type Find, missingOf, type Search, searchesOf, type SearchForm, searchWords } from "./searching";

/** Rows that are drawn; the rest is counted, and is in the CSV. */
const MOST_SHOWN = 300;
const emptyForm: SearchForm = { folders: "", name: "", leastMiB: "", days: "", text: "" };

/** Looks for files on many hosts at once, and fetches, hashes or deletes what is found. */
export function SearchPage() {
  const me = useMe();
  const mayRead = me?.anywhere.includes("read-files") ?? false;
  const mayWrite = me?.anywhere.includes("write-files") ?? false;
  const [on, setOn] = useState("");
  const [form, setForm] = useState(emptyForm);
  const [usesVault, setUsesVault] = useState(false);
  const [at, setAt] = useState<Search>();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [deleting, setDeleting] = useState(false);
  const [fetches, setFetches] = useState<FetchRow[]>([]);
  const running = useRef<FilesSearch>(undefined);
  const fetching = useRef(new Map<number, { stop(): void }>());
  useEffect(
    () => () => {
      running.current?.stop();
      for (const fetch of fetching.current.values()) fetch.stop();
    },
    [],
  );
  const selected = useSelected(on);
  const scoped = useScoped();
  const set = (part: Partial<SearchForm>) => setForm((f) => ({ ...f, ...part }));
  const hosts = useHostsByName();
  const chosenHosts = useMemo(() => hosts.filter((h) => selected.ids?.has(h.id)), [hosts, selected.ids]);
  const why = !on
    ? "Say on which hosts first"
    : chosenHosts.length === 0
      ? (selected.problem ?? "The selection names no host")
      : missingOf(form);
  const going = at?.state === "going";
  const proof = { door: undefined, usesVault };
  const finds = at?.finds ?? [];
  const picked = finds.filter((f) => chosen.has(f.id) && f.note !== "in the trash");
  const begin = () => {
    setChosen(new Set());
    running.current?.stop();
    running.current = new FilesSearch(chosenHosts, searchesOf(form, Date.now()), proof, setAt);
  };
  /** Begins to fetch something and shows how far it is. */
  const follow = (name: string, path: string, begin: (tell: (at: Fetching) => void) => { stop(): void }) => {
    const id = Date.now() + Math.random();
    const row = { id, name, path };
    const tell = (state: Fetching) => setFetches((rows) => [...rows.filter((r) => r.id !== id), { ...row, at: state }]);
    fetching.current.set(id, begin(tell));
  };
  const fetch = (find: Find) => {
    const name = find.path.text.slice(find.path.text.lastIndexOf("/") + 1);
    follow(
      `${find.host.label}: ${name}`,
      find.path.text,
      (tell) => new FileFetch(find.host.id, proof, find.path, tell, (content) => saveBlob(name, content)),
    );
  };
  const fetchTogether = async () => {
    const { zipArchive } = await import("./zipArchive");
    const of = new Set(picked.map((f) => f.host.id)).size;
    follow(
      `${picked.length === 1 ? "One thing" : `${picked.length} things`} of ${of === 1 ? (picked[0]?.host.label ?? "") : `${of} hosts`}`,
      "Into found.zip: a folder for each host, below it everything by its whole path",
      (tell) => new Gathering(picked, zipArchive(), tell, (zip) => saveBlob("found.zip", zip), reachFilesWith(proof)),
    );
  };
  const toCsv = () =>
    save(
      "found.csv",
      "text/csv",
      csvOf([
        ["host", "path", "kind", "bytes", "changed", "owner", "sha-256"],
        ...finds.map((f) => [
          f.host.label,
          f.path.text,
          f.entry.kind,
          String(f.entry.bytes),
          f.entry.changedAt,
          f.entry.owner,
          f.sha256 ?? "",
        ]),
      ]),
    );
  return (
    <main className="page">
      <div className="page-head">
        <h1>Find files</h1>
        <WorkTabs />
      </div>
      {me && !mayRead && (
        <Empty title="Files are found by those who may read them">
          None of your grants holds read-files anywhere; whoever administers can change that.
        </Empty>
      )}
      {mayRead && (
        <form
          className="search-form"
          onSubmit={(e) => {
            e.preventDefault();
            if (!why && !going) begin();
          }}
        >
          <div className="wide">
            <b aria-hidden="true">On which hosts</b>
            <SelectionField
              label="On which hosts"
              placeholder={'in "Saltmarsh Ferry" and tagged kiosk'}
              value={on}
              onChange={setOn}
              problem={selected.problem}
              description={
                on && selected.ids
                  ? `${chosenHosts.length} ${chosenHosts.length === 1 ? "host" : "hosts"} now`
                  : undefined
              }
            />
          </div>
          <TextInput
            label="In which folders"
            placeholder="/srv, /var/log"
            classNames={{ input: "mono" }}
            value={form.folders}
            onChange={(e) => set({ folders: e.currentTarget.value })}
          />
          <TextInput
            label="Name"
            placeholder="*.log"
            classNames={{ input: "mono" }}
            value={form.name}
            onChange={(e) => set({ name: e.currentTarget.value })}
          />
          <TextInput
            label="At least so many MiB"
            inputMode="decimal"
            value={form.leastMiB}
            onChange={(e) => set({ leastMiB: e.currentTarget.value })}
          />
          <TextInput
            label="Changed in the last days"
            inputMode="decimal"
            value={form.days}
            onChange={(e) => set({ days: e.currentTarget.value })}
          />
          <TextInput label="Text in it" value={form.text} onChange={(e) => set({ text: e.currentTarget.value })} />
          <Checkbox
            className="wide"
            label="Where a host asks for its access key, prove it from the vault"
            checked={usesVault}
            onChange={(e) => setUsesVault(e.currentTarget.checked)}
          />
          <div className="search-acts wide">
            {going ? (
              <Button variant="default" onClick={() => running.current?.stop()}>
                Stop
              </Button>
            ) : (
              <Button type="submit" disabled={!!why}>
                Look for them
              </Button>
            )}
            <span className="muted" role="status">
              {at
                ? searchWords(at)
                : (why ??
                  "In the folders and all below them, commas between several; in names * and ? stand for letters.")}
              {at && !going && why ? `. ${why}` : ""}
            </span>
          </div>
        </form>
      )}
      <Problems of={at?.problems ?? []} what="could not be looked at" />
      <FetchList
        rows={fetches}
        onStop={(id) => {
          fetching.current.get(id)?.stop();
        }}
      />
      {finds.length > 0 && (
        <>
          <div className="search-acts">
            <Button
              size="compact-sm"
              variant="default"
              disabled={picked.length === 0}
              title={picked.length === 0 ? "Choose some first" : "A folder for each host, folders with all below them"}
              onClick={() => void fetchTogether()}
            >
              Fetch as one ZIP
            </Button>
            <Button
              size="compact-sm"
              variant="default"
              disabled={picked.length === 0}
              title={picked.length === 0 ? "Choose some first" : undefined}
              onClick={() => void running.current?.hash(picked)}
            >
              Hash
            </Button>
            {mayWrite && (
              <Button
                size="compact-sm"
                variant="default"
                disabled={picked.length === 0}
                title={picked.length === 0 ? "Choose some first" : undefined}
                onClick={() => setDeleting(true)}
              >
                To the trash
              </Button>
            )}
            <Button size="compact-sm" variant="subtle" color="gray" onClick={toCsv}>
              CSV
            </Button>
            <span className="muted">
              {picked.length === 0 ? "None chosen: choose some first" : `${picked.length} chosen`}
            </span>
          </div>
          <table className="matrix found-files" aria-label="What was found">
            <thead>
              <tr>
                <th scope="col">
                  <Checkbox
                    size="xs"
                    aria-label="Choose all"
                    checked={picked.length > 0 && picked.length === finds.length}
                    indeterminate={picked.length > 0 && picked.length < finds.length}
                    onChange={(e) => setChosen(new Set(e.currentTarget.checked ? finds.map((f) => f.id) : []))}
                  />
                </th>
                <th scope="col">Host</th>
                <th scope="col">Path</th>
                <th scope="col">Size</th>
                <th scope="col">Changed</th>
                <th scope="col" aria-label="Fetch" />
              </tr>
            </thead>
            <tbody>
              {finds.slice(0, MOST_SHOWN).map((f) => (
                <tr key={f.id}>
                  <td>
                    <Checkbox
                      size="xs"
                      aria-label={`Choose ${f.path.text} on ${f.host.label}`}
                      checked={chosen.has(f.id)}
                      onChange={(e) => {
                        const next = new Set(chosen);
                        if (e.currentTarget.checked) next.add(f.id);
                        else next.delete(f.id);
                        setChosen(next);
                      }}
                    />
                  </td>
                  <td>
                    <Link to={scoped(`/hosts/${f.host.id}`)}>{f.host.label}</Link>
                  </td>
                  <th scope="row" className="mono">
                    {f.path.text}
                    {f.entry.kind === "folder" ? "/" : ""}
                    {(f.sha256 ?? f.note) && (
                      <>
                        <br />
                        <span className="muted">{f.note ?? `SHA-256 ${f.sha256}`}</span>
                      </>
                    )}
                  </th>
                  <td className="number">{f.entry.kind === "file" ? bytes(f.entry.bytes) : f.entry.kind}</td>
                  <td>{minute(f.entry.changedAt)}</td>
                  <td>
                    {f.entry.kind === "file" && f.note !== "in the trash" && (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Fetch ${f.path.text} of ${f.host.label}`}
                        onClick={() => fetch(f)}
                      >
                        Fetch
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {finds.length > MOST_SHOWN && (
            <p className="muted">{finds.length - MOST_SHOWN} more; the CSV has all of them.</p>
          )}
        </>
      )}
      <Modal
        opened={deleting}
        onClose={() => setDeleting(false)}
        title={`Put ${picked.length === 1 ? "one thing" : `${picked.length} things`} into the trash?`}
      >
        <p>
          On{" "}
          {new Set(picked.map((f) => f.host.id)).size === 1
            ? picked[0]?.host.label
            : `${new Set(picked.map((f) => f.host.id)).size} hosts`}
          . They can be put back from the trash of each host.
        </p>
        <div className="acts">
          <Button
            color="red"
            onClick={() => {
              setDeleting(false);
              void running.current?.trash(picked);
            }}
          >
            Put them there
          </Button>
          <Button variant="default" onClick={() => setDeleting(false)}>
            Back
          </Button>
        </div>
      </Modal>
    </main>
  );
}
