import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { bytes, minute } from "../parts/time";
import { type FileOrder, isFile, isFolder, modeText } from "./files";
import type { FileEntry } from "./hostFiles";

const titles: { by?: FileOrder; title: string; className?: string }[] = [
  { by: "name", title: "Name" },
  { by: "size", title: "Size", className: "number" },
  { by: "changed", title: "Changed" },
  { title: "Mode" },
  { title: "Owner" },
  { title: "" },
];

/** Entries of a folder: only those that are in sight are drawn. */
export function FileTable({
  label,
  entries,
  chosen,
  by,
  down,
  onOrder,
  onOpen,
  acts,
}: {
  label: string;
  entries: FileEntry[];
  chosen: FileEntry | undefined;
  by: FileOrder;
  down: boolean;
  onOrder: (by: FileOrder) => void;
  onOpen: (entry: FileEntry) => void;
  /** What can be done with one. */
  acts: (entry: FileEntry) => React.ReactNode;
}) {
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: entries.length,
    getScrollElement: () => box.current,
    estimateSize: () => 34,
    overscan: 8,
    initialRect: { width: 1000, height: 420 },
  });
  return (
    <div className="file-table" role="table" aria-label={label} aria-rowcount={entries.length + 1}>
      <div className="file-row file-titles" role="row" aria-rowindex={1}>
        {titles.map(({ by: order, title, className }, n) => (
          <span
            key={n}
            role="columnheader"
            className={className}
            aria-sort={order && order === by ? (down ? "descending" : "ascending") : undefined}
          >
            {order ? (
              <button type="button" onClick={() => onOrder(order)}>
                {title}
                {order === by ? (down ? " ↓" : " ↑") : ""}
              </button>
            ) : (
              title || <span className="hidden-text">Acts</span>
            )}
          </span>
        ))}
      </div>
      <div ref={box} className="file-rows" role="rowgroup">
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const entry = entries[item.index];
            if (!entry) return null;
            const opens = isFolder(entry) || isFile(entry);
            return (
              <div
                key={item.key}
                className={`file-row${entry.name.text === chosen?.name.text ? " chosen" : ""}`}
                role="row"
                aria-rowindex={item.index + 2}
                style={{ position: "absolute", top: item.start, left: 0, right: 0, height: item.size }}
              >
                <span role="cell" className="file-name">
                  {opens ? (
                    <button type="button" onClick={() => onOpen(entry)}>
                      {shownName(entry)}
                    </button>
                  ) : (
                    <span>{shownName(entry)}</span>
                  )}
                  {entry.target && (
                    <span className="muted">
                      {" "}
                      → {entry.target.text}
                      {entry.targetKind ? "" : " (nothing there)"}
                    </span>
                  )}
                </span>
                <span role="cell" className="number" title={entry.kind === "file" ? `${entry.bytes} bytes` : undefined}>
                  {entry.kind === "file" ? bytes(entry.bytes) : ""}
                </span>
                <span role="cell">
                  <time dateTime={entry.changedAt}>{minute(entry.changedAt)}</time>
                </span>
                <span role="cell" className="mono">
                  {modeText(entry)}
                </span>
                <span role="cell" className="file-owner" title={`${entry.owner}, group ${entry.group}`}>
                  {entry.owner}
                </span>
                <span role="cell" className="file-acts">
                  {acts(entry)}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

/** A name on one line, a folder by its slash. */
const shownName = (entry: FileEntry) =>
  // eslint-disable-next-line no-control-regex -- they are what is to be seen
  entry.name.text.replace(/[\u0000-\u001f\u007f]/g, (c) =>
    String.fromCharCode(c === "\u007f" ? 0x2421 : 0x2400 + c.charCodeAt(0)),
  ) + (entry.kind === "folder" ? "/" : "");
