import { Button, Checkbox, NumberInput, Select, TextInput } from "@mantine/core";
import { useRef, useState } from "react";
import { bytes } from "../parts/time";
import { chosenOf, type Dropped, droppedOf } from "./dropped";
import { type Destination, existingWays, type ExistingWay, type NamedPlace, places } from "./places";

/** Most of the chosen that are named one by one. */
const MOST = 8;

/** Which files go to many hosts, and where they come to lie there. */
export function DeliverFields({
  chosen,
  onChosen,
  to,
  onTo,
}: {
  chosen: Dropped[];
  onChosen: (chosen: Dropped[]) => void;
  to: Destination;
  onTo: (to: Destination) => void;
}) {
  const [over, setOver] = useState(false);
  const files = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const set = (part: Partial<Destination>) => onTo({ ...to, ...part });
  const add = (more: Dropped[]) => {
    const names = new Set(more.map((m) => m.path.join("/")));
    onChosen([...chosen.filter((c) => !names.has(c.path.join("/"))), ...more]);
  };
  const tops = [...new Set(chosen.map((c) => c.path[0] ?? ""))];
  const inTop = (top: string) => chosen.filter((c) => c.path[0] === top && c.file);
  return (
    <>
      <section
        className={`parcel-drop${over ? " over" : ""}`}
        aria-label="Files and folders"
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          void droppedOf(e.dataTransfer).then(add);
        }}
      >
        {tops.length === 0 ? (
          <p className="muted">Drop files and folders here, or choose them.</p>
        ) : (
          <ul>
            {tops.slice(0, MOST).map((top) => (
              <li key={top}>
                <span className="mono">{top}</span>{" "}
                <span className="muted">
                  {chosen.some((c) => c.path[0] === top && (c.path.length > 1 || !c.file))
                    ? `folder with ${inTop(top).length} ${inTop(top).length === 1 ? "file" : "files"}, `
                    : ""}
                  {bytes(inTop(top).reduce((sum, c) => sum + (c.file?.size ?? 0), 0))}
                </span>{" "}
                <Button
                  size="compact-xs"
                  variant="subtle"
                  color="gray"
                  aria-label={`Leave out ${top}`}
                  onClick={() => onChosen(chosen.filter((c) => c.path[0] !== top))}
                >
                  Leave out
                </Button>
              </li>
            ))}
            {tops.length > MOST && <li className="muted">and {tops.length - MOST} more</li>}
          </ul>
        )}
        <div className="parcel-acts">
          <Button size="compact-sm" variant="default" onClick={() => files.current?.click()}>
            Choose files
          </Button>
          <Button size="compact-sm" variant="default" onClick={() => folder.current?.click()}>
            Choose a folder
          </Button>
        </div>
        <input
          ref={files}
          type="file"
          multiple
          hidden
          aria-label="Files to deliver"
          onChange={(e) => {
            if (e.currentTarget.files) add(chosenOf(e.currentTarget.files));
            e.currentTarget.value = "";
          }}
        />
        <input
          ref={folder}
          type="file"
          multiple
          hidden
          aria-label="Folder to deliver"
          {...{ webkitdirectory: "" }}
          onChange={(e) => {
            if (e.currentTarget.files) add(chosenOf(e.currentTarget.files));
            e.currentTarget.value = "";
          }}
        />
      </section>
      <div className="installer-form">
        <Select
          label="Where they go"
          data={[{ value: "", label: "A folder by its whole path" }, ...places]}
          value={to.place}
          onChange={(place) => set({ place: (place ?? "") as NamedPlace | "" })}
          allowDeselect={false}
        />
        <TextInput
          label={to.place ? "Folder below that" : "Folder"}
          classNames={{ input: "mono" }}
          placeholder={to.place ? "none" : "/etc/kiosk"}
          value={to.folder}
          onChange={(e) => set({ folder: e.currentTarget.value })}
          spellCheck={false}
        />
        <Select
          className="whole"
          label="A file that is there already and is another"
          data={[...existingWays]}
          value={to.existing}
          onChange={(way) => set({ existing: (way ?? "ask") as ExistingWay })}
          allowDeselect={false}
        />
      </div>
      <div className="parcel-acts">
        {!to.place && (
          <Checkbox
            label="Make the folder where it is not there"
            checked={to.makesFolder}
            onChange={(e) => set({ makesFolder: e.currentTarget.checked })}
          />
        )}
        <Checkbox
          label="After an error put nothing more on that host"
          checked={to.stopsAtError}
          onChange={(e) => set({ stopsAtError: e.currentTarget.checked })}
        />
      </div>
      <details>
        <summary>Owner, mode and rate</summary>
        <div className="installer-form">
          <TextInput
            label="Whose they are"
            classNames={{ input: "mono" }}
            placeholder="whose the folder is"
            value={to.owner}
            onChange={(e) => set({ owner: e.currentTarget.value })}
            spellCheck={false}
          />
          <TextInput
            label="Mode"
            classNames={{ input: "mono" }}
            placeholder="0644"
            value={to.mode}
            onChange={(e) => set({ mode: e.currentTarget.value })}
          />
          <NumberInput
            label="To all hosts together at most, MiB a second"
            placeholder="as fast as it goes"
            min={0.01}
            value={to.rate}
            onChange={(rate) => set({ rate })}
          />
        </div>
      </details>
    </>
  );
}
