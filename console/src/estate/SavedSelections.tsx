import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { SavedSelectionInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { isSelection, quoted } from "./hostList";

/** Saved selections beside each other, with the hosts that each names now; the one in force is marked. */
export function SavedSelections({
  on,
  onChange,
  children,
}: {
  on: string;
  onChange: (text: string) => void;
  children?: React.ReactNode;
}) {
  const queries = useQueryClient();
  const [name, setName] = useState<string>();
  const saved = useQuery({
    queryKey: ["selections"],
    queryFn: async () => (await ask(api.GET("/api/v1/selections"))).items as SavedSelectionInfo[],
    refetchInterval: 30_000,
  });
  const keep = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/selections", { body: { name: name ?? "", text: on, note: null } })),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["selections"] });
      setName(undefined);
      onChange(`saved ${quoted(made.name)}`);
    },
  });
  const remove = useMutation({
    mutationFn: (one: SavedSelectionInfo) =>
      ask(api.DELETE("/api/v1/selections/{id}", { params: { path: { id: one.id } } })),
    onSuccess: async (_, one) => {
      await queries.invalidateQueries({ queryKey: ["selections"] });
      // What it said stays, so that it can be saved again.
      onChange(one.text);
    },
  });
  const inForce = saved.data?.find((s) => on === `saved ${quoted(s.name)}`);
  return (
    <div className="saved">
      <div className="saved-list" role="group" aria-label="Saved selections">
        {children}
        {saved.data?.map((s) => (
          <Button
            key={s.id}
            size="compact-sm"
            variant="default"
            aria-pressed={s === inForce}
            className={s === inForce ? "in-force" : ""}
            title={s.problem ?? `${s.text}${s.note ? ` (${s.note})` : ""}`}
            onClick={() => onChange(s === inForce ? "" : `saved ${quoted(s.name)}`)}
          >
            {s.name}
            <span className={s.problem ? "trouble" : "muted"}>&nbsp;{s.problem ? "can’t be read" : s.hosts}</span>
          </Button>
        ))}
        {isSelection(on) && !inForce && name === undefined && (
          <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setName("")}>
            Save this selection
          </Button>
        )}
        {inForce && (
          <Button
            size="compact-sm"
            variant="subtle"
            color="gray"
            onClick={() => remove.mutate(inForce)}
            loading={remove.isPending}
          >
            Remove “{inForce.name}” from the saved ones
          </Button>
        )}
        {name !== undefined && (
          <form
            className="save-form"
            onSubmit={(e) => {
              e.preventDefault();
              keep.mutate();
            }}
          >
            <TextInput
              size="xs"
              aria-label="Name of the selection"
              placeholder="its name"
              value={name}
              data-autofocus
              autoFocus
              onChange={(e) => setName(e.currentTarget.value)}
            />
            <Button
              size="compact-sm"
              type="submit"
              variant="filled"
              disabled={!name.trim()}
              title={name.trim() ? undefined : "Give it a name first"}
              loading={keep.isPending}
            >
              Save
            </Button>
            <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setName(undefined)}>
              Don’t
            </Button>
          </form>
        )}
      </div>
      {inForce && (
        <p className="mono muted saved-text">
          {inForce.text}
          {inForce.note && ` (${inForce.note})`}
        </p>
      )}
      <Trouble error={keep.error ?? remove.error ?? saved.error} />
    </div>
  );
}
