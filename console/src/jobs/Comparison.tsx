import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { api, ask } from "../api/client";
import type { AnswerComparison, AnswerLine } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { onlyDifferent, type Shown } from "./answers";
import { neutralise } from "./output";

/** Two hosts' output line by line; `only` leaves out long stretches that are equal. */
export function Comparison({
  first,
  second,
  mask,
  only = false,
}: {
  first: string;
  second: string;
  mask: string;
  only?: boolean;
}) {
  const comparison = useQuery({
    queryKey: ["comparison", first, second, mask],
    queryFn: () =>
      ask(
        api.GET("/api/v1/runs/{id}/comparison", {
          params: { path: { id: first }, query: { with: second, passOver: mask } },
        }),
      ) as Promise<AnswerComparison>,
    staleTime: Infinity,
  });
  if (comparison.error) return <Trouble error={comparison.error} />;
  if (!comparison.data) return <p className="muted">Comparing …</p>;
  const { first: one, second: other, streams, cut } = comparison.data;
  if (streams.every((s) => s.lines.every((l) => l.kind === "same"))) {
    return <p className="muted">Both printed the same, but for what is passed over.</p>;
  }
  return (
    <>
      {streams.map((stream) => (
        <ComparedLines
          key={stream.stream}
          lines={only ? onlyDifferent(stream.lines) : stream.lines}
          of={stream.stream}
          one={one.hostLabel}
          other={other.hostLabel}
        />
      ))}
      {cut && <p className="muted">Only the beginning was compared; the output is very long.</p>}
    </>
  );
}

/** Lines of two texts, those that only one of them has with its sign. */
export function ComparedLines({ lines, of, one, other }: { lines: Shown[]; of: string; one: string; other: string }) {
  return (
    <div className="comparison" role="table" aria-label={`${of} of both`} tabIndex={0}>
      <div className="line head" role="row">
        <span role="columnheader" className="number">
          line
        </span>
        <span role="columnheader">
          <b className="first">− {one}</b> <b className="second">+ {other}</b> <span className="muted">{of}</span>
        </span>
      </div>
      {lines.map((line, i) => (
        <Line key={i} line={line} one={one} other={other} />
      ))}
    </div>
  );
}

const signs = { same: "\u00a0", "only-first": "−", "only-second": "+" } as const;

function Line({ line, one, other }: { line: Shown; one: string; other: string }) {
  if ("equal" in line) {
    return (
      <div className="line equal" role="row">
        <span role="cell" />
        <span role="cell">
          {line.equal} equal {line.equal === 1 ? "line" : "lines"}
        </span>
      </div>
    );
  }
  const whose = line.kind === "only-first" ? `only ${one}: ` : line.kind === "only-second" ? `only ${other}: ` : "";
  return (
    <div className={`line ${line.kind}`} role="row">
      <span role="cell" className="number">
        {line.first ?? line.second}
      </span>
      <span role="cell">
        <span aria-hidden="true">{signs[line.kind]} </span>
        {whose && <span className="unseen">{whose}</span>}
        <Marked line={line} />
      </span>
    </div>
  );
}

function Marked({ line }: { line: AnswerLine }) {
  const { text, from, to } = line;
  if (from == null || to == null) return <>{neutralise(text)}</>;
  return (
    <Fragment>
      {neutralise(text.slice(0, from))}
      <mark>{neutralise(text.slice(from, to))}</mark>
      {neutralise(text.slice(to))}
    </Fragment>
  );
}
