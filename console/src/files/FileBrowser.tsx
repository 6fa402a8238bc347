import { Button, TextInput } from "@mantine/core";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { HostSummary } from "../api/types";
import { saveBlob } from "../parts/file";
import { KeyAsked } from "../sessions/KeyAsked";
import { LineWord } from "../sessions/LineWord";
import type { Proof } from "../sessions/useProof";
import { droppedOf } from "./dropped";
import { PackDialog, UnpackDialog } from "./ArchiveDialogs";
import { EraseDialog, FolderDialog, MoveDialog, SettingDialog } from "./FileDialogs";
import { FetchList, type FetchRow } from "./FetchList";
import { FileActs, type RowAct } from "./FileActs";
import { FileBar } from "./FileBar";
import { FilePreview } from "./FilePreview";
import { FileTable } from "./FileTable";
import { type Fetching, FileFetch } from "./fetching";
import { belowItself, Gathering, reachFilesWith } from "./gathering";
import { arranged, type FileOrder, inFolder, isFile, isFolder, wayTo } from "./files";
import { type FileEntry, type FileName, HostFiles } from "./hostFiles";
import { SendConflict } from "./SendConflict";
import { SendList } from "./SendList";
import { TrashList } from "./TrashList";
import { useFileChanges } from "./useFileChanges";
import { useSending } from "./useSending";

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

/** What was said of the last change; with an id, what was deleted can be put back. */
interface Said {
  text: string;
  trash?: string | undefined;
}

/** What a folder of a host holds, from folder to folder; a file is looked at beside it, fetched or changed, and others are dropped there. */
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
  const [again, setAgain] = useState(0);
  const [act, setAct] = useState<{ act: RowAct | "folder"; entry?: FileEntry }>();
  const [trash, setTrash] = useState(false);
  const [said, setSaid] = useState<Said>();
  const [hovers, setHover] = useState(false);
  const running = useRef(new Map<number, { stop(): void }>());
  const { door, usesVault } = proof;
  const changes = useFileChanges(host, proof);
  const refresh = useCallback(() => setAgain((n) => n + 1), []);

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
        // A large folder is seen while it comes; one that is looked at again is not emptied first.
        if (current)
          setListing((l) => (l?.files === files && l.path === path && l.listed ? l : { ...of, entries: [...entries] }));
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
  }, [files, path, again]);
  const { entries, listed, problem } =
    listing?.files === files && listing.path === path ? listing : { entries: none, listed: false, problem: undefined };

  // What is still on its way when the panel goes, goes with it.
  useEffect(() => {
    const all = running.current;
    return () => all.forEach((fetch) => fetch.stop());
  }, []);

  const go = (to: FileName) => {
    setSaid(undefined);
    setPath(to);
    setTyped(to.text);
    setText("");
    setChosen(undefined);
  };
  const open = (entry: FileEntry) => (isFolder(entry) ? go(inFolder(path, entry.name)) : setChosen(entry));
  const fetch = async (entry: FileEntry) => {
    const id = Date.now() + Math.random();
    const at = inFolder(path, entry.name);
    const name = entry.name.text;
    const proof = { door, usesVault };
    const tell = (now: Fetching) => setFetches((rows) => rows.map((r) => (r.id === id ? { ...r, at: now } : r)));
    setFetches((rows) => [
      ...rows,
      { id, name, path: at.text, at: { bytes: isFile(entry) ? entry.bytes : 0, here: 0, rate: 0, state: "going" } },
    ]);
    if (isFile(entry)) {
      running.current.set(id, new FileFetch(host.id, proof, at, tell, (content) => saveBlob(name, content)));
      return;
    }
    const { zipArchive } = await import("./zipArchive");
    const find = { id: at.text, host, path: at, entry: { ...entry, kind: "folder" as const } };
    running.current.set(
      id,
      new Gathering(
        [find],
        zipArchive(),
        tell,
        (zip) => saveBlob(`${name}.zip`, zip),
        reachFilesWith(proof),
        belowItself(at),
      ),
    );
  };
  const sending = useSending(host, files, changes, refresh);
  const remove = (entry: FileEntry) => {
    const at = inFolder(path, entry.name);
    changes
      .change({ delete: at })
      .then((word) => {
        setSaid({ text: `${at.text} lies in the trash.`, trash: word.trash?.[0]?.id });
        if (chosen === entry) setChosen(undefined);
        refresh();
      })
      .catch((e: unknown) => setSaid({ text: e instanceof Error ? e.message : String(e) }));
  };
  const putBack = (id: string) =>
    changes
      .change({ restore: id })
      .then(() => {
        setSaid({ text: "It is back where it lay." });
        refresh();
      })
      .catch((e: unknown) => setSaid({ text: e instanceof Error ? e.message : String(e) }));
  const done = (text: string) => {
    setSaid({ text });
    setChosen(undefined);
    refresh();
  };
  const dialog = { host, change: changes.change, onDone: done, onClose: () => setAct(undefined) };
  const mayDrop = changes.may && changes.ready && listed === true;
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
      {changes.may && changes.asksKey && !door && (
        <KeyAsked
          host={host}
          door={changes.door}
          onDoor={changes.setDoor}
          fromVault={changes.fromVault}
          act="changes its files"
        />
      )}
      <FileBar
        path={path}
        may={changes.may}
        host={host}
        ready={changes.ready && listed === true}
        onFolder={() => setAct({ act: "folder" })}
        onSend={(dropped) => void sending.send(path, entries, dropped)}
        onTrash={() => setTrash(!trash)}
      />
      {trash && changes.ready && (
        <TrashList host={host} changes={changes} round={again} onBack={refresh} onClose={() => setTrash(false)} />
      )}
      {(said ?? sending.problem) && (
        <p className={sending.problem ? "trouble file-said" : "file-said"} role="status">
          {sending.problem ?? said?.text}{" "}
          {!sending.problem && said?.trash && (
            <Button size="compact-sm" variant="default" onClick={() => void putBack(said.trash ?? "")}>
              Put it back
            </Button>
          )}
        </p>
      )}
      {sending.conflict && (
        <SendConflict
          names={sending.conflict.names}
          folder={sending.conflict.folder.text}
          onWay={sending.conflict.decide}
          onClose={sending.leave}
        />
      )}
      {act?.act === "folder" && <FolderDialog {...dialog} folder={path} />}
      {act?.entry && act.act === "move" && <MoveDialog {...dialog} path={inFolder(path, act.entry.name)} />}
      {act?.entry && act.act === "pack" && <PackDialog {...dialog} path={inFolder(path, act.entry.name)} />}
      {act?.entry && act.act === "unpack" && <UnpackDialog {...dialog} path={inFolder(path, act.entry.name)} />}
      {act?.entry && act.act === "set" && (
        <SettingDialog {...dialog} path={inFolder(path, act.entry.name)} entry={act.entry} />
      )}
      {act?.entry && act.act === "erase" && (
        <EraseDialog {...dialog} path={inFolder(path, act.entry.name)} entry={act.entry} />
      )}
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
          <div
            className={hovers ? "file-drop over" : "file-drop"}
            data-drop={mayDrop ? `Let go to send it to ${path.text} of ${host.label}` : undefined}
            onDragOver={(e) => {
              if (!e.dataTransfer.types.includes("Files")) return;
              e.preventDefault();
              e.dataTransfer.dropEffect = mayDrop ? "copy" : "none";
              setHover(mayDrop);
            }}
            onDragLeave={(e) => {
              if (!e.currentTarget.contains(e.relatedTarget as Node | null)) setHover(false);
            }}
            onDrop={(e) => {
              e.preventDefault();
              setHover(false);
              if (mayDrop) void droppedOf(e.dataTransfer).then((dropped) => sending.send(path, entries, dropped));
            }}
          >
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
              acts={(entry) => (
                <FileActs
                  entry={entry}
                  may={changes.may}
                  ready={changes.ready}
                  onFetch={(entry) => void fetch(entry)}
                  onAct={(what) => (what === "delete" ? remove(entry) : setAct({ act: what, entry }))}
                />
              )}
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
              changes={changes}
              onFetch={() => void fetch(chosen)}
              onSaved={(text) => {
                setSaid({ text });
                refresh();
              }}
              onClose={() => setChosen(undefined)}
            />
          )}
        </div>
      )}
      <SendList rows={sending.rows} queue={sending.queue} label={host.label} />
      <FetchList rows={fetches} onStop={(id) => running.current.get(id)?.stop()} />
    </>
  );
}
