import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { FilmInfo, RecordingInfo } from "../api/types";
import { saveBlob } from "../parts/file";
import { bytes } from "../parts/time";
import { Trouble } from "../parts/Trouble";

const EVERY = 700;
const PAUSE = 3;

/** A film of a recorded desktop: has one made, says how far it has come, and hands it over. */
export function Film({ info }: { info: RecordingInfo }) {
  const queries = useQueryClient();
  const params = { params: { path: { id: info.id } } };
  const key = ["film", info.id];
  const film = useQuery({
    queryKey: key,
    staleTime: 0,
    queryFn: async () => (await ask(api.GET("/api/v1/recordings/{id}/film", params))) as FilmInfo,
    refetchInterval: (q) => (isMade(q.state.data) ? EVERY : false),
  });
  const settled = () => queries.invalidateQueries({ queryKey: key });
  const make = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/recordings/{id}/film", { ...params, body: { longestPause: PAUSE } })),
    onSettled: settled,
  });
  const stop = useMutation({
    mutationFn: () => ask(api.DELETE("/api/v1/recordings/{id}/film", params)),
    onSettled: settled,
  });
  const take = useMutation({
    mutationFn: async () => {
      const content = await ask(
        api.GET("/api/v1/recordings/{id}/film/content", { ...params, parseAs: "blob" as const }),
      );
      saveBlob(`${info.hostLabel}-${info.id}.webm`, content as unknown as Blob);
    },
  });
  const now = film.data;
  return (
    <>
      {isMade(now) ? (
        <>
          <span role="status">The film is made: {Math.round(100 * (now?.done ?? 0))} %</span>
          <Button size="compact-sm" variant="default" loading={stop.isPending} onClick={() => stop.mutate()}>
            Give it up
          </Button>
        </>
      ) : now?.bytes ? (
        <Button size="compact-sm" variant="default" loading={take.isPending} onClick={() => take.mutate()}>
          Save the film, {bytes(now.bytes)}
        </Button>
      ) : (
        <Button
          size="compact-sm"
          variant="default"
          disabled={!info.endedAt}
          loading={make.isPending}
          title={info.endedAt ? `WebM; pauses of ${String(PAUSE)} s at most` : "It is still being written"}
          onClick={() => make.mutate()}
        >
          Make a film
        </Button>
      )}
      {now?.problem && <span role="alert">{now.problem}</span>}
      <Trouble error={make.error ?? take.error ?? stop.error} />
    </>
  );
}

const isMade = (film: FilmInfo | undefined) => film?.state === "making";
