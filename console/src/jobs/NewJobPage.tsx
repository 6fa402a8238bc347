import { Button, SegmentedControl, Select, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { CommandSpec, FilledScript, JobInfo, PowerAct } from "../api/types";
import { SelectionField } from "../estate/SelectionField";
import { useSelected } from "../estate/useSelected";
import { DeliverFields } from "../files/DeliverFields";
import type { Dropped } from "../files/dropped";
import { type ParcelAt, sendParcel, Stopped } from "../files/parcels";
import { deliverOf, nowhere, problemOf } from "../files/places";
import { SendingToService } from "../files/SendingToService";
import { Trouble } from "../parts/Trouble";
import { commandPart, HowFields } from "./HowFields";
import { nothingSaid, readVariables, type How } from "./how";
import { LibraryChoice, type Choice } from "./LibraryChoice";
import { isPowerAct, powerActs, powerWish, sentence } from "./power";
import { nothingSaidOfPower, PowerFields } from "./PowerFields";
import { actOn, isProgramAct, ProgramFields, type ProgramAct } from "./ProgramFields";
import { missingValue, useScript } from "./scripts";
import { allAtOnce, TurnFields, turnsOf } from "./TurnFields";

type What = "line" | "script" | "library" | "program" | "files" | "power";

/** A command or a script for many hosts, with everything that can be said about how. */
export function NewJobPage() {
  const [query] = useSearchParams();
  const navigate = useNavigate();
  const me = useMe();
  const [on, setOn] = useState(query.get("on") ?? "");
  const [kind, setKind] = useState<What>(
    query.has("script")
      ? "library"
      : query.has("program")
        ? "program"
        : query.has("files")
          ? "files"
          : query.has("power")
            ? "power"
            : "line",
  );
  const [choice, setChoice] = useState<Choice>({
    id: query.get("script") ?? undefined,
    number: Number(query.get("version")) || undefined,
    values: {},
  });
  const [text, setText] = useState("");
  const [program, setProgram] = useState(query.get("program") ?? "");
  const [act, setAct] = useState<ProgramAct>(
    isProgramAct(query.get("act")) ? (query.get("act") as ProgramAct) : "find",
  );
  const [power, setPower] = useState<PowerAct>(
    isPowerAct(query.get("power")) ? (query.get("power") as PowerAct) : "restart",
  );
  const [powerSaid, setPowerSaid] = useState(nothingSaidOfPower);
  const [shell, setShell] = useState("");
  const [variables, setVariables] = useState("");
  const [how, setHow] = useState<How>(nothingSaid);
  const [turns, setTurns] = useState(allAtOnce);
  const [chosen, setChosen] = useState<Dropped[]>([]);
  const [to, setTo] = useState(nowhere);
  const [sending, setSending] = useState<ParcelAt>();
  const stop = useRef(new AbortController());
  const selected = useSelected(on);
  const hosts = selected.ids?.size;
  const read = readVariables(variables);
  const kept = useScript(kind === "library" ? choice.id : undefined, choice.number).data;
  const queries = useQueryClient();
  const mayChoose = me?.anywhere.includes("choose-user") ?? false;
  const wish = powerWish(power, powerSaid.minutes, powerSaid.message, powerSaid.person);
  const isAct = kind === "program" || kind === "power" || kind === "files";
  const deliver = async () => {
    stop.current = new AbortController();
    try {
      const { digest, name, files, bytes } = await sendParcel(chosen, setSending, stop.current.signal);
      return deliverOf(to, { digest: digest ?? "", name, files, bytes });
    } finally {
      setSending(undefined);
    }
  };
  const make = useMutation({
    mutationFn: async () => {
      const use =
        kind === "library" && kept
          ? { id: kept.script.id, number: kept.shown.number, values: said(choice.values) }
          : null;
      const filled = use ? ((await ask(api.POST("/api/v1/scripts/fill", { body: use }))) as FilledScript) : null;
      const command = {
        ...(kind === "program"
          ? { action: actOn(program.trim(), act) }
          : kind === "files"
            ? { action: { deliver: await deliver() } }
            : kind === "power"
              ? { action: { power: wish } }
              : filled
                ? filled.command
                : {
                    ...(kind === "line" ? { line: text } : { script: text }),
                    ...(shell.trim() ? { shell: shell.trim() } : {}),
                    ...(read.variables ? { environment: read.variables } : {}),
                  }),
        ...(isAct ? {} : commandPart(how)),
      } as CommandSpec;
      return ask(
        api.POST("/api/v1/jobs", {
          body: {
            selection: on,
            command: command as never,
            ...turnsOf(turns),
            seals: null,
            script: use,
          },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      ) as Promise<JobInfo>;
    },
    onSuccess: (job) => {
      void navigate(`/work/${job.id}`);
      void queries.invalidateQueries({ queryKey: ["scripts"] });
    },
  });
  const missing = !on
    ? "Say first on which hosts"
    : selected.problem
      ? selected.problem
      : hosts === 0
        ? "The selection names no host"
        : kind === "library"
          ? kept
            ? missingValue(kept.shown.parameters, choice.values)
            : "Choose a script or a runbook first"
          : kind === "program"
            ? program.trim()
              ? undefined
              : "Say which program or service first"
            : kind === "files"
              ? chosen.length === 0
                ? "Choose files first"
                : problemOf(to)
              : kind === "power"
                ? undefined
                : !text.trim()
                  ? kind === "line"
                    ? "Write a command first"
                    : "Write a script first"
                  : read.problem;
  return (
    <main className="page">
      <div className="page-head">
        <h1>New job</h1>
      </div>
      <form
        className="stack job-form"
        onSubmit={(e) => {
          e.preventDefault();
          if (!missing) make.mutate();
        }}
      >
        <div>
          <b aria-hidden="true">On which hosts</b>
          <SelectionField
            label="On which hosts"
            placeholder={'in "Saltmarsh Ferry" and tagged kiosk'}
            value={on}
            onChange={setOn}
            problem={selected.problem}
            description={
              on && hosts !== undefined
                ? `${hosts} ${hosts === 1 ? "host" : "hosts"} now`
                : 'Names with *, in "GROUP", is linked, tagged TAG'
            }
          />
        </div>
        <SegmentedControl
          aria-label="What to run"
          value={kind}
          onChange={(k) => setKind(k as What)}
          data={[
            { value: "line", label: "A command line" },
            { value: "script", label: "A script" },
            { value: "library", label: "From the library" },
            { value: "program", label: "A program or service" },
            { value: "files", label: "Files" },
            { value: "power", label: "Power" },
          ]}
        />
        {kind === "program" ? (
          <ProgramFields program={program} onProgram={setProgram} act={act} onAct={setAct} />
        ) : kind === "files" ? (
          <DeliverFields chosen={chosen} onChosen={setChosen} to={to} onTo={setTo} />
        ) : kind === "power" ? (
          <>
            <Select
              label="What is to be done"
              data={powerActs.map((a) => ({ value: a.act, label: a.label }))}
              value={power}
              onChange={(a) => isPowerAct(a) && setPower(a)}
              allowDeselect={false}
            />
            <PowerFields act={power} said={powerSaid} onSaid={setPowerSaid} />
            <p className="muted" style={{ margin: 0 }}>
              {powerActs.find((a) => a.act === power)?.lost}
            </p>
          </>
        ) : kind === "library" ? (
          <LibraryChoice choice={choice} onChange={setChoice} />
        ) : kind === "line" ? (
          <TextInput
            label="Command line"
            classNames={{ input: "mono" }}
            placeholder="systemctl is-active cups || echo stopped"
            value={text}
            onChange={(e) => setText(e.currentTarget.value)}
            spellCheck={false}
            autoCapitalize="off"
            autoComplete="off"
          />
        ) : (
          <Textarea
            label="Script"
            description="Its first line says what reads it, such as #!/usr/bin/python3; without one it is /bin/sh."
            classNames={{ input: "mono" }}
            autosize
            minRows={6}
            maxRows={24}
            value={text}
            onChange={(e) => setText(e.currentTarget.value)}
            spellCheck={false}
          />
        )}
        <details hidden={isAct}>
          <summary>How it runs</summary>
          <HowFields how={how} onChange={setHow} mayChoose={mayChoose} usual={kept?.shown.command}>
            {kind !== "library" && (
              <TextInput
                label={kind === "line" ? "Shell" : "What reads the script"}
                classNames={{ input: "mono" }}
                placeholder="/bin/sh"
                value={shell}
                onChange={(e) => setShell(e.currentTarget.value)}
              />
            )}
          </HowFields>
          {kind !== "library" && (
            <Textarea
              mt={12}
              label="Variables of its environment"
              placeholder={"NAME=VALUE, one in a line"}
              classNames={{ input: "mono" }}
              autosize
              minRows={2}
              value={variables}
              error={read.problem}
              onChange={(e) => setVariables(e.currentTarget.value)}
              spellCheck={false}
            />
          )}
        </details>
        <TurnFields turns={turns} onTurns={setTurns} usualWait={kind === "power" ? "5 minutes" : "24"} />
        {sending && <SendingToService at={sending} onStop={() => stop.current.abort()} />}
        <Trouble error={make.error instanceof Stopped ? null : make.error} />
        <div>
          <Button type="submit" loading={make.isPending} disabled={!!missing} title={missing}>
            {!hosts
              ? "Run"
              : kind === "files"
                ? `Put them on ${hosts} ${hosts === 1 ? "host" : "hosts"}`
                : kind === "power"
                  ? sentence(wish, hosts === 1 ? "1 host" : `${hosts} hosts`)
                  : `Run on ${hosts} ${hosts === 1 ? "host" : "hosts"}`}
          </Button>
          {missing && <span className="muted"> {missing}</span>}
        </div>
      </form>
    </main>
  );
}

/** Values that were written; an emptied field says nothing. */
const said = (values: Record<string, string>) => Object.fromEntries(Object.entries(values).filter(([, v]) => v !== ""));
