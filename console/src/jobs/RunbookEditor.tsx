import { Button, Textarea, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, ask } from "../api/client";
import type { RunbookDocument, ScriptDetail } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { howWords } from "./how";
import { fits, useScript, useScriptAct } from "./scripts";
import { runbookShelf } from "./steps";
import { StepsView } from "./StepsView";

const example = `# Bring a unit back

What it is for, in a sentence or two.

- parameter: UNIT: text -- the unit

## Look whether it runs

- may fail

\`\`\`sh
systemctl is-active "$UNIT"
\`\`\`

## Start it

- when: "Look whether it runs" failed
- tries: 3, 10 s apart

\`\`\`sh
systemctl restart "$UNIT"
\`\`\`
`;

const conditions = [
  ["always", "whatever happened before"],
  ["something failed", "a step before it failed that may not"],
  ['"STEP" succeeded', "that step, further up, ended with exit status 0"],
  ['"STEP" failed', "it did not, whether it may or not"],
  ['"STEP" was left out', "its own conditions were not met"],
  ['"STEP" ended with 3, 4', "its exit status was one of these"],
  ["PARAMETER is VALUE", "and nothing failed before; is not VALUE for the others"],
];

const read = (text: string) =>
  ask(api.POST("/api/v1/scripts/document", { body: { text } })) as unknown as Promise<RunbookDocument>;

export const NewRunbookPage = () => <Editor from={example} />;

/** The next version of a runbook, written as its document. */
export function NextRunbookPage() {
  const { id = "" } = useParams();
  const { data, error } = useScript(id);
  const document = useQuery({
    queryKey: ["runbook-document", id, data?.script.latest],
    queryFn: () =>
      ask(
        api.GET("/api/v1/scripts/{id}/document", { params: { path: { id } }, parseAs: "text" }),
      ) as unknown as Promise<string>,
    enabled: !!data,
    staleTime: Infinity,
  });
  const [begun, setBegun] = useState<{ detail: ScriptDetail; text: string }>();
  // What is being written stays, whatever comes of the runbook or of the line meanwhile; the service says what is too old.
  if (data && document.data != null && data.script.id !== begun?.detail.script.id)
    setBegun({ detail: data, text: document.data });
  if ((error ?? document.error) && !begun) return <Trouble error={error ?? document.error} />;
  return begun ? <Editor key={begun.detail.script.id} from={begun.text} known={begun.detail} /> : null;
}

function Editor({ from, known }: { from: string; known?: ScriptDetail }) {
  const navigate = useNavigate();
  const [text, setText] = useState(from);
  const [note, setNote] = useState("");
  const [settled] = useDebouncedValue(text, 400);
  const reading = useQuery({
    queryKey: ["runbook-reads", settled],
    queryFn: () => read(settled),
    enabled: settled.trim().length > 0,
    placeholderData: (before: RunbookDocument | undefined) => before,
    retry: false,
  });
  const save = useScriptAct(
    async () => {
      const book = await read(text);
      const title = book.title ?? known?.script.name;
      if (!title) throw new Error("The document has no title; begin it with a line such as: # Bring a unit back");
      if (known && title !== known.script.name)
        throw new Error(
          `The document's title is “${title}”, and this runbook is called “${known.script.name}”. Another name is given to it under “Name and sharing”.`,
        );
      const kept = { command: book.command as never, parameters: book.parameters as never };
      if (!known)
        return (await ask(
          api.POST("/api/v1/scripts", {
            body: { ...kept, name: title, description: book.description ?? null, sharing: null, note: null },
          }),
        )) as ScriptDetail;
      return (await ask(
        api.POST("/api/v1/scripts/{id}/versions", {
          params: { path: { id: known.script.id } },
          headers: { "If-Match": `"${known.script.version}"` },
          body: { ...kept, note: note || null },
        }),
      )) as ScriptDetail;
    },
    (made) => void navigate(`${runbookShelf.path}/${made.script.id}`),
  );
  const book = reading.error ? undefined : reading.data;
  const missing = !text.trim() ? "Write the runbook first" : undefined;
  return (
    <main className="page">
      <div className="page-head">
        <h1>{known ? `${known.script.name}, version ${known.script.latest + 1}` : "New runbook"}</h1>
      </div>
      <form
        className="runbook-editor"
        onSubmit={(e) => {
          e.preventDefault();
          if (!missing) save.mutate(undefined);
        }}
      >
        <div className="stack">
          <Textarea
            label="Runbook"
            description="A step begins with ##, and what it runs stands between two lines of ```. Behind - stand when it runs, how often it is tried, and whether it may fail."
            classNames={{ input: "mono" }}
            autosize
            minRows={18}
            maxRows={36}
            value={text}
            onChange={(e) => setText(e.currentTarget.value)}
            spellCheck={false}
          />
          <details>
            <summary>What can stand behind “when:”</summary>
            <table className="matrix conditions">
              <tbody>
                {conditions.map(([form, meaning]) => (
                  <tr key={form}>
                    <th scope="row" className="mono">
                      {form}
                    </th>
                    <td>{meaning}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </details>
          {known && <TextInput label="What is new" value={note} onChange={(e) => setNote(e.currentTarget.value)} />}
          <Trouble error={save.error} />
          <div>
            <Button type="submit" loading={save.isPending} disabled={!!missing} title={missing}>
              {known ? `Keep version ${known.script.latest + 1}` : "Keep the runbook"}
            </Button>
            {missing && <span className="muted"> {missing}</span>}
          </div>
        </div>
        <section aria-label="As it is read">
          <h2>As it is read</h2>
          <Trouble error={reading.error} />
          {book && <Read book={book} />}
        </section>
      </form>
    </main>
  );
}

function Read({ book }: { book: RunbookDocument }) {
  const how = howWords({ ...book.command, steps: null }, null);
  return (
    <>
      {book.parameters.length > 0 && (
        <p>
          Asks for{" "}
          {book.parameters.map((p, i) => (
            <span key={p.name}>
              {i > 0 && ", "}
              <span className="mono">{p.name}</span>{" "}
              <span className="muted">
                ({fits(p)}
                {p.default != null && `, ${p.default} unless said`})
              </span>
            </span>
          ))}
          .
        </p>
      )}
      {how && <p className="muted">{how}</p>}
      <StepsView steps={book.command.steps ?? []} />
    </>
  );
}
