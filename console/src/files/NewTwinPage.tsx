import { Button, Checkbox, Radio, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, ask } from "../api/client";
import type { TwinInfo } from "../api/types";
import { useHostOptions } from "../estate/useEstate";
import { Trouble } from "../parts/Trouble";
import { useShelves } from "./shelves";
import { chosen, emptyForm, missing, shelfChoice, type TwinForm, useTwinAct, wishOf } from "./twins";

/** Hosts that are offered at once; typing narrows them. */
const OFFERED = 50;

/** Names two folders that are to be kept in step. */
export function NewTwinPage() {
  const [search] = useSearchParams();
  const [form, setForm] = useState<TwinForm>(() =>
    (["first", "second"] as const).reduce((form, side) => {
      const choice = search.get(side);
      return choice ? { ...form, ...chosen(form, side, choice) } : form;
    }, emptyForm),
  );
  const set = (part: Partial<TwinForm>) => setForm((f) => ({ ...f, ...part }));
  const navigate = useNavigate();
  const hosts = useHostOptions();
  const { data: shelves } = useShelves();
  const options = [
    ...(shelves && shelves.length > 0
      ? [
          {
            group: "Shelves of the service",
            items: shelves.map((s) => ({ value: shelfChoice(s.id), label: `The shelf ${s.name} of ${s.groupPath}` })),
          },
        ]
      : []),
    {
      group: "Hosts",
      items: hosts,
    },
  ];
  const make = useTwinAct(
    (wish: TwinForm) => ask(api.POST("/api/v1/twins", { body: wishOf(wish) })) as Promise<TwinInfo>,
    (made) => void navigate(`/work/twins/${made.id}`),
  );
  const why = missing(form);
  const side = (of: "first" | "second", title: string, hint: string) => (
    <fieldset className="twin-side">
      <legend>{title}</legend>
      <Select
        label={`Host or shelf of the ${of}`}
        searchable
        limit={OFFERED}
        data={options}
        value={form[`${of}Host`] || null}
        onChange={(id) => set(chosen(form, of, id ?? ""))}
        nothingFoundMessage="No host and no shelf is called so"
      />
      <TextInput
        label={`Folder of the ${of}`}
        placeholder="/srv/recipes"
        classNames={{ input: "mono" }}
        value={form[`${of}Path`]}
        onChange={(e) => set({ [`${of}Path`]: e.currentTarget.value })}
      />
      <p className="muted">{hint}</p>
    </fieldset>
  );
  return (
    <main className="page twin-form">
      <div className="page-head">
        <h1>New twin</h1>
      </div>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!why) make.mutate(form);
        }}
      >
        <TextInput label="Name" value={form.name} onChange={(e) => set({ name: e.currentTarget.value })} />
        <div className="twin-sides">
          {side("first", "First folder", form.bothWays ? "It gets what is new on the second." : "It stays as it is.")}
          {side("second", "Second folder", "It is made if it is not there.")}
        </div>
        <Radio.Group
          label="Which way changes go"
          value={form.bothWays ? "both" : "one"}
          onChange={(v) => set({ bothWays: v === "both" })}
        >
          <Radio value="one" label="One way: the second becomes what the first is" />
          <Radio value="both" label="Both ways: what was changed on either side goes to the other" />
        </Radio.Group>
        {form.bothWays ? (
          <p className="muted">
            What both sides have changed since they were in step is left as it is, and shown. What is taken away on one
            side goes to the trash on the other.
          </p>
        ) : (
          <Checkbox
            label="Take away from the second what is not in the first; it goes to the trash there"
            checked={form.deletes}
            onChange={(e) => set({ deletes: e.currentTarget.checked })}
          />
        )}
        <TextInput
          label="Leave alone"
          description="Names, or with a slash paths below the folders, with commas between them. * stands for letters."
          placeholder="*.tmp, cache/*"
          classNames={{ input: "mono" }}
          value={form.leaves}
          onChange={(e) => set({ leaves: e.currentTarget.value })}
        />
        <TextInput
          label="At most so many MiB in a second"
          description="To leave room on the lines; empty for as many as there are."
          inputMode="decimal"
          value={form.rate}
          onChange={(e) => set({ rate: e.currentTarget.value })}
        />
        <Trouble error={make.error} />
        <div className="acts">
          <Button type="submit" disabled={!!why} loading={make.isPending}>
            Make the twin
          </Button>
          <Button variant="default" component={Link} to="/work/twins">
            Back
          </Button>
          <span className="muted" role="status">
            {why ?? "Nothing is done with the folders before a turn."}
          </span>
        </div>
      </form>
    </main>
  );
}
