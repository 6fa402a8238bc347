import { Button, Menu, Modal, type FileButton } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import type { ImportOutcome } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { importTree } from "../api/tree";

/** The tree as a file, out and in; an import shows what it would change before anything is changed. */
export function TreeFile({ button: Choose, onDone }: { button: typeof FileButton; onDone: () => void }) {
  const [file, setFile] = useState<File>();
  const reset = useRef<() => void>(null);
  const work = useMutation({
    mutationFn: ({ of, preview }: { of: File; preview: boolean }) => importTree(of, preview),
    onSuccess: (outcome, { preview }) => {
      if (!preview && outcome.problems.length === 0) {
        close();
        onDone();
      }
    },
  });
  const close = () => {
    setFile(undefined);
    work.reset();
    reset.current?.();
  };
  return (
    <>
      <Menu position="bottom-end" shadow="md">
        <Menu.Target>
          <Button variant="default" size="sm">
            Export
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Item component="a" href="/api/v1/estate/tree?format=csv" download="estate.csv">
            The whole tree as CSV
          </Menu.Item>
          <Menu.Item component="a" href="/api/v1/estate/tree?format=json" download="estate.json">
            The whole tree as JSON
          </Menu.Item>
        </Menu.Dropdown>
      </Menu>
      <Choose
        resetRef={reset}
        accept=".csv,.json,text/csv,application/json"
        onChange={(chosen) => {
          if (!chosen) return;
          setFile(chosen);
          work.mutate({ of: chosen, preview: true });
        }}
      >
        {(props) => (
          <Button variant="default" size="sm" {...props}>
            Import …
          </Button>
        )}
      </Choose>
      {file && (
        <Modal opened onClose={close} title={`Import ${file.name}`} size="xl">
          <div className="stack">
            {work.isPending && <p>Reading {file.name} …</p>}
            <Trouble error={work.error} />
            {work.data && <Outcome outcome={work.data} />}
            {work.data && work.data.problems.length === 0 && work.data.changes.length > 0 && (
              <Button
                variant="filled"
                loading={work.isPending}
                onClick={() => work.mutate({ of: file, preview: false })}
              >
                Import {work.data.lines} lines of {file.name}
              </Button>
            )}
          </div>
        </Modal>
      )}
    </>
  );
}

function Outcome({ outcome }: { outcome: ImportOutcome }) {
  if (outcome.problems.length > 0) {
    return (
      <>
        <p style={{ margin: 0 }}>
          {outcome.problems.length} of {outcome.lines} lines are wrong; nothing is imported until they are mended.
        </p>
        <ul className="rows import-lines">
          {outcome.problems.map((p) => (
            <li key={p.line} className="row">
              <span>
                <b>Line {p.line}:</b> <span className="trouble">{p.problem}</span>
              </span>
            </li>
          ))}
        </ul>
      </>
    );
  }
  if (outcome.changes.length === 0) return <p style={{ margin: 0 }}>Nothing changes: all stands as the lines say.</p>;
  return (
    <ul className="rows import-lines" tabIndex={0} aria-label="What would change">
      {outcome.changes.map((c, i) => (
        <li key={i} className="row">
          <span>
            <span className="muted">line {c.line}</span> {c.says}
          </span>
        </li>
      ))}
    </ul>
  );
}
