import { Button, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { FoundLines } from "../api/types";
import { Empty, Trouble } from "../parts/Trouble";
import { neutralise } from "./output";
import { useView } from "./useView";
import { notKept } from "./words";

/** Looks for a text in everything that the hosts printed. */
export function SearchView({ jobId }: { jobId: string }) {
  const at = useView();
  const [typed, setTyped] = useState("");
  const [text, setText] = useState("");
  const found = useQuery({
    queryKey: ["found", jobId, text],
    queryFn: () =>
      ask(
        api.GET("/api/v1/jobs/{id}/search", { params: { path: { id: jobId }, query: { text } } }),
      ) as Promise<FoundLines>,
    enabled: text !== "",
  });
  return (
    <div className="stack">
      <form
        className="inline"
        onSubmit={(e) => {
          e.preventDefault();
          setText(typed);
        }}
      >
        <TextInput
          label="Text in the output of any host"
          classNames={{ input: "mono" }}
          value={typed}
          onChange={(e) => setTyped(e.currentTarget.value)}
          maxLength={200}
          spellCheck={false}
        />
        <Button
          type="submit"
          variant="default"
          disabled={!typed}
          title={typed ? undefined : "Write a text first"}
          loading={found.isFetching}
        >
          Find
        </Button>
      </form>
      <Trouble error={found.error} />
      {found.data?.lines.length === 0 && (
        <Empty title={`No host printed “${text}”`}>Letters of either case count.</Empty>
      )}
      {(found.data?.gone ?? 0) > 0 && (
        <p className="muted">
          What {found.data?.gone === 1 ? "1 host" : `${found.data?.gone} hosts`} printed is {notKept}.
        </p>
      )}
      {found.data && found.data.lines.length > 0 && (
        <>
          <p className="muted" role="status">
            {found.data.lines.length} {found.data.lines.length === 1 ? "line" : "lines"} on {found.data.hosts}{" "}
            {found.data.hosts === 1 ? "host" : "hosts"}
            {found.data.more && "; there are more, look for something rarer"}
          </p>
          <div className="rows">
            {found.data.lines.map((line) => (
              <Link
                key={`${line.runId} ${line.stream} ${line.line}`}
                className="row found-row"
                to={at.toRun(line.runId)}
              >
                <b>{line.hostLabel}</b>
                <span className="muted number">
                  {line.stream} {line.line}
                </span>
                <span className="mono">{neutralise(line.text)}</span>
              </Link>
            ))}
          </div>
        </>
      )}
    </div>
  );
}
