import { Button, TextInput } from "@mantine/core";
import { useEffect, useMemo, useRef, useState } from "react";
import type { HostSummary } from "../api/types";
import { saveBlob } from "../parts/file";
import { LineWord } from "../sessions/LineWord";
import type { Proof } from "../sessions/useProof";
import { FetchList, type FetchRow } from "./FetchList";
import { FilePreview } from "./FilePreview";
import { FileTable } from "./FileTable";
import { FileFetch } from "./fetching";
import { arranged, type FileOrder, inFolder, isFolder, wayTo } from "./files";
import { type FileEntry, type FileName, HostFiles } from "./hostFiles";

const root: FileName = { text: "/" };
const none: FileEntry[] = [];

/** What is known of a folder. */
interface Listing {
  files: HostFiles;
  path: FileName;
  entries: FileEntry[];
  listed?: boolean;
  problem?: string;
}

/** What a folder of a host holds, from folder to folder; a file is looked at beside it, or fetched. */
export function FileBrowser({ host, proof }: { host: HostSummary; proof: Proof }) {
  const [round, setRound] = useState(0);
  const [path, setPath] = useState(root);
  const [typed, setTyped] = useState("/");
  const [listing, setListing] = useState<Listing>();
  const [word, setWord] = useState<string>();
  const [over, setOver] = useState(false);
  const [chosen, setChosen] = useState<FileEntry>();
  const [text, setText] = useState("");
  const [by, setBy] = useState<FileOrder>("name");
  const [down, setDown] = useState(false);
  const [fetches, setFetches] = useState<FetchRow[]>([]);
  const running = useRef(new Map<number, FileFetch>());
  const { door, usesVault } = proof;

  // Opened with the first question. Looked at anew, it is another line: round.
  const files = useMemo(
    () =>
      new HostFiles(
        host.id,
        { door, usesVault },
        {
          notice: setWord,
          over: (why) => {
            setWord(why);
            setOver(true);
          },
        },
      ),
    [host.id, door, usesVault, round], // eslint-disable-line react-hooks/exhaustive-deps -- see above
  );
  useEffect(() => () => files.close(), [files]);

  useEffect(() => {
    let current = true;
    const of = { files, path };
    const entries: FileEntry[] = [];
    files
      .list(path, (more) => {
        entries.push(...more);
        // A large folder is seen while it comes.
        if (current) setListing({ ...of, entries: [...entries] });
      })
      .then(() => {
        if (!current) return;
        setWord(undefined);
        setListing({ ...of, entries, listed: true });
      })
      .catch(
        (e: unknown) => current && setListing({ ...of, entries, problem: e instanceof Error ? e.message : String(e) }),
      );
    return () => {
      current = false;
    };
  }, [files, path]);
  const { entries, listed, problem } =
    listing?.files === files && listing.path === path ? listing : { entries: none, listed: false, problem: undefined };

  // What is still on its way when the panel goes, goes with it.
  useEffect(() => {
    const all = running.current;
    return () => all.forEach((fetch) => fetch.stop());
  }, []);

  const go = (to: FileName) => {
    setPath(to);
    setTyped(to.text);
    setText("");
    setChosen(undefined);
  };
  const open = (entry: FileEntry) => (isFolder(entry) ? go(inFolder(path, entry.name)) : setChosen(entry));
  const fetch = (entry: FileEntry) => {
    const id = Date.now() + Math.random();
    const at = inFolder(path, entry.name);
    setFetches((rows) => [
      ...rows,
      { id, name: entry.name.text, path: at.text, at: { bytes: entry.bytes, here: 0, rate: 0, state: "going" } },
    ]);
    running.current.set(
      id,
      new FileFetch(
        host.id,
        { door, usesVault },
        at,
        (now) => setFetches((rows) => rows.map((r) => (r.id === id ? { ...r, at: now } : r))),
        (content) => saveBlob(entry.name.text, content),
      ),
    );
  };
  const shown = useMemo(() => arranged(entries, text, by, down), [entries, text, by, down]);
  const way = useMemo(() => wayTo(path), [path]);
  const above = way.at(-2)?.path;

  return (
    <>
      <LineWord
        word={word}
        over={over}
        onAgain={() => {
          setOver(false);
          setWord(undefined);
          setRound(round + 1);
        }}
      />
      <form
        className="file-head"
        onSubmit={(e) => {
          e.preventDefault();
          go({ text: typed.trim() || "/" });
        }}
      >
        <TextInput
          aria-label="Folder"
          classNames={{ input: "mono" }}
          value={typed}
          onChange={(e) => setTyped(e.currentTarget.value)}
          spellCheck={false}
        />
        <Button type="submit" variant="default">
          Go there
        </Button>
        <TextInput
          aria-label="Names that hold"
          placeholder="Names that hold …"
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
          spellCheck={false}
        />
      </form>
      <nav className="file-way" aria-label={`The way to ${path.text}`}>
        {way.map((step, n) => (
          <button
            key={n}
            type="button"
            className="file-step mono"
            aria-current={n === way.length - 1 ? "location" : undefined}
            onClick={() => go(step.path)}
          >
            {step.name}
          </button>
        ))}
      </nav>
      {problem && !over ? (
        <p className="trouble" role="alert">
          {problem}{" "}
          {above && (
            <Button size="compact-sm" variant="default" onClick={() => go(above)}>
              Back to {above.text}
            </Button>
          )}
        </p>
      ) : (
        <div className={chosen ? "file-both" : undefined}>
          <div>
            <FileTable
              label={`What ${path.text} of ${host.label} holds`}
              entries={shown}
              chosen={chosen}
              by={by}
              down={down}
              onOrder={(next) => {
                setDown(next === by && !down);
                setBy(next);
              }}
              onOpen={open}
              onFetch={fetch}
            />
            <p className="muted file-foot" role="status">
              {!listed
                ? over
                  ? ""
                  : `Reading ${path.text} … ${entries.length > 0 ? `${entries.length} so far` : ""}`
                : entries.length === 0
                  ? `${path.text} is empty.`
                  : shown.length < entries.length
                    ? `${shown.length} of ${entries.length} shown.`
                    : entries.length === 1
                      ? "1 entry."
                      : `${entries.length} entries.`}
            </p>
          </div>
          {chosen && (
            <FilePreview
              key={inFolder(path, chosen.name).text}
              files={files}
              path={inFolder(path, chosen.name)}
              entry={chosen}
              onFetch={() => fetch(chosen)}
              onClose={() => setChosen(undefined)}
            />
          )}
        </div>
      )}
      <FetchList rows={fetches} onStop={(id) => running.current.get(id)?.stop()} />
    </>
  );
}
