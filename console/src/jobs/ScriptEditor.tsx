import { Button, Textarea, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { CommandSpec, JobInfo, ScriptDetail, ScriptParameter } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { commandPart, HowFields } from "./HowFields";
import { nothingSaid, type How } from "./how";
import { ParameterRows } from "./ParameterRows";
import { useScript, useScriptAct } from "./scripts";

/** A new script, from nothing or from what a job ran. */
export function NewScriptPage() {
  const [query] = useSearchParams();
  const job = query.get("job") ?? undefined;
  const { data, error } = useQuery({
    queryKey: ["job-command", job],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/jobs/{id}", { params: { path: { id: job ?? "" } } }))).job as unknown as JobInfo,
    enabled: !!job,
    staleTime: Infinity,
  });
  if (error && !data) return <Trouble error={error} />;
  if (job && !data) return null;
  return <Editor from={data ? asScript(data.command) : { script: "#!/bin/sh\n" }} parameters={ofJob(data)} />;
}

/** The next version of a script. */
export function NextVersionPage() {
  const { id } = useParams();
  const { data, error } = useScript(id);
  const [begun, setBegun] = useState<ScriptDetail>();
  // What is being written stays, whatever comes of the script or of the line meanwhile; the service says what is too old.
  if (data && data.script.id !== begun?.script.id) setBegun(data);
  if (error && !begun) return <Trouble error={error} />;
  return begun ? (
    <Editor key={begun.script.id} from={begun.shown.command} parameters={begun.shown.parameters} known={begun} />
  ) : null;
}

/** The variables of a job are what can be said of the next one. */
export function ofJob(job: JobInfo | undefined): ScriptParameter[] {
  return Object.entries(job?.command.environment ?? {}).map(([name, value]) => ({
    name,
    kind: "text",
    default: value,
    optional: false,
  }));
}

const quote = (word: string) => (/^[\w./:=,+@%-]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`);

/** A command line or a program with its arguments as the text of a script. */
export function asScript(command: CommandSpec): CommandSpec {
  const { line, arguments: args, shell, script, ...how } = command;
  if (script != null) return { ...how, script, shell, arguments: args, environment: null };
  return {
    ...how,
    environment: null,
    script:
      line != null ? `#!${shell ?? "/bin/sh"}\n${line}\n` : `#!/bin/sh\nexec ${(args ?? []).map(quote).join(" ")}\n`,
  };
}

function Editor({
  from,
  parameters: before,
  known,
}: {
  from: CommandSpec;
  parameters: ScriptParameter[];
  known?: ScriptDetail;
}) {
  const navigate = useNavigate();
  const mayChoose = useMe()?.anywhere.includes("choose-user") ?? false;
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  const [note, setNote] = useState("");
  const [text, setText] = useState(from.script ?? "");
  const [shell, setShell] = useState(from.shell ?? "");
  const [parameters, setParameters] = useState(before);
  const [how, setHow] = useState<How>({
    ...nothingSaid,
    user: from.user ?? "",
    directory: from.workingDirectory ?? "",
    minutes: from.timeoutSeconds != null ? from.timeoutSeconds / 60 : "",
    niceness: from.niceness ?? "",
    megabytes: from.outputLimitBytes != null ? from.outputLimitBytes / 1024 / 1024 : "",
  });
  const command = {
    ...(from.input ? { input: from.input } : {}),
    ...(from.arguments ? { arguments: from.arguments } : {}),
    ...(from.environment ? { environment: from.environment } : {}),
    ...commandPart(how),
    script: text,
    ...(shell.trim() ? { shell: shell.trim() } : {}),
  } as CommandSpec;
  const asked = parameters.map((p) => (p.kind === "choice" ? { ...p, choices: p.choices?.map((c) => c.trim()) } : p));
  const save = useScriptAct(
    async () =>
      (known
        ? await ask(
            api.POST("/api/v1/scripts/{id}/versions", {
              params: { path: { id: known.script.id } },
              headers: { "If-Match": `"${known.script.version}"` },
              body: { command: command as never, parameters: asked as never, note: note || null },
            }),
          )
        : await ask(
            api.POST("/api/v1/scripts", {
              body: {
                name,
                command: command as never,
                description: description || null,
                parameters: asked as never,
                sharing: null,
                note: null,
              },
            }),
          )) as ScriptDetail,
    (made) => void navigate(`/work/scripts/${made.script.id}`),
  );
  const missing = !known && !name.trim() ? "Give it a name first" : !text.trim() ? "Write the script first" : undefined;
  return (
    <main className="page">
      <div className="page-head">
        <h1>{known ? `${known.script.name}, version ${known.script.latest + 1}` : "New script"}</h1>
      </div>
      <form
        className="stack job-form"
        onSubmit={(e) => {
          e.preventDefault();
          if (!missing) save.mutate(undefined);
        }}
      >
        {known ? (
          <TextInput label="What is new" value={note} onChange={(e) => setNote(e.currentTarget.value)} />
        ) : (
          <>
            <TextInput label="Name" autoFocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
            <TextInput
              label="What it is for"
              value={description}
              onChange={(e) => setDescription(e.currentTarget.value)}
            />
          </>
        )}
        <Textarea
          label="Script"
          description="Its first line says what reads it, such as #!/usr/bin/python3; without one it is /bin/sh."
          classNames={{ input: "mono" }}
          autosize
          minRows={8}
          maxRows={32}
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
          spellCheck={false}
        />
        <ParameterRows parameters={parameters} onChange={setParameters} />
        <details>
          <summary>How it usually runs</summary>
          <HowFields how={how} onChange={setHow} mayChoose={mayChoose} usual={{ input: from.input }}>
            <TextInput
              label="What reads the script"
              classNames={{ input: "mono" }}
              placeholder="/bin/sh"
              value={shell}
              onChange={(e) => setShell(e.currentTarget.value)}
            />
          </HowFields>
        </details>
        <Trouble error={save.error} />
        <div>
          <Button type="submit" loading={save.isPending} disabled={!!missing} title={missing}>
            {known ? `Keep version ${known.script.latest + 1}` : "Keep the script"}
          </Button>
          {missing && <span className="muted"> {missing}</span>}
        </div>
      </form>
    </main>
  );
}
