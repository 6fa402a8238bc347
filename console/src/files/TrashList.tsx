import { Button } from "@mantine/core";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { HostSummary } from "../api/types";
import { customerOf } from "../estate/emblem";
import { bytes, minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import type { FileChanges } from "./useFileChanges";

/** What was deleted on a host and can be put back. */
export function TrashList({
  host,
  changes,
  round,
  onBack,
  onClose,
}: {
  host: HostSummary;
  changes: FileChanges;
  /** Another number when something was changed. */
  round: number;
  onBack: () => void;
  onClose: () => void;
}) {
  const [sure, setSure] = useState(false);
  const queries = useQueryClient();
  const key = ["trash", host.id, round];
  const trash = useQuery({
    queryKey: key,
    queryFn: changes.trash,
    staleTime: 0,
    gcTime: 0,
    retry: false,
    placeholderData: keepPreviousData,
  });
  const act = useMutation({
    mutationFn: (what: { restore: string } | { empty: string }) => changes.change(what),
    onSettled: () => {
      setSure(false);
      onBack();
      return queries.invalidateQueries({ queryKey: key });
    },
  });
  const items = [...(trash.data ?? [])].sort((a, b) => b.deletedAt.localeCompare(a.deletedAt));
  return (
    <section className="file-trash" aria-label={`Trash of ${host.label}`}>
      <header>
        <strong>What was deleted on {host.label}</strong>
        <span className="file-preview-acts">
          {items.length > 0 &&
            (sure ? (
              <Button
                size="compact-sm"
                color="red"
                variant="filled"
                loading={act.isPending}
                onClick={() => act.mutate({ empty: "" })}
              >
                {`Delete ${items.length === 1 ? "it" : `all ${items.length}`} from ${host.label} of ${customerOf(host.groupPath)} for good`}
              </Button>
            ) : (
              <Button size="compact-sm" variant="default" onClick={() => setSure(true)}>
                Empty the trash …
              </Button>
            ))}
          <Button size="compact-sm" variant="subtle" color="gray" onClick={onClose}>
            Close the trash
          </Button>
        </span>
      </header>
      <Trouble error={act.error ?? trash.error} />
      {trash.isPending ? (
        <p className="muted">Asking {host.label} …</p>
      ) : items.length === 0 ? (
        !trash.error && <p className="muted">The trash is empty.</p>
      ) : (
        <ul>
          {items.map((item) => (
            <li key={item.id}>
              <span className="mono fetch-name" title={item.path.text}>
                {item.path.text}
                {item.entry.kind === "folder" ? "/" : ""}
              </span>
              <time dateTime={item.deletedAt} className="muted">
                {minute(item.deletedAt)}
              </time>
              <span className="number muted">{item.entry.kind === "file" ? bytes(item.entry.bytes) : ""}</span>
              <Button
                size="compact-sm"
                variant="default"
                aria-label={`Put ${item.path.text} back`}
                disabled={act.isPending}
                onClick={() => act.mutate({ restore: item.id })}
              >
                Put back
              </Button>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
