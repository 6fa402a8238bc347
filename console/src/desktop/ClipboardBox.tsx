import { Button, Checkbox, Popover, Textarea } from "@mantine/core";
import { IconClipboard } from "@tabler/icons-react";
import { useEffect, useState } from "react";
import type { DesktopLine, DesktopSeen } from "./desktopLine";

const NOT_LET = "The browser lets this page not at your clipboard; paste the text here instead.";

/** Both clipboards, side by side, so that it is plain which is which. */
export function ClipboardBox({
  line,
  seen,
  host,
  inPortal,
}: {
  line: DesktopLine;
  seen: DesktopSeen;
  host: string;
  inPortal: boolean;
}) {
  const [mine, setMine] = useState("");
  const [problem, setProblem] = useState<string>();
  const [done, setDone] = useState<string>();
  const [inStep, setInStep] = useState(false);
  const there = seen.clipboard;
  const take = async () => {
    try {
      setMine(await navigator.clipboard.readText());
      setProblem(undefined);
    } catch {
      setProblem(NOT_LET);
    }
  };
  // In step, what was copied here goes there when one comes back to this window.
  useEffect(() => {
    line.keepInStep(inStep);
    if (!inStep) return;
    let last = "";
    const look = () => {
      void navigator.clipboard
        .readText()
        .then((text) => {
          if (text && text !== last) line.give((last = text));
        })
        .catch(() => setProblem(NOT_LET));
    };
    look();
    window.addEventListener("focus", look);
    return () => {
      line.keepInStep(false);
      window.removeEventListener("focus", look);
    };
  }, [line, inStep]);
  return (
    <Popover width={430} position="bottom-start" shadow="md" withinPortal={inPortal} trapFocus>
      <Popover.Target>
        <Button
          size="compact-sm"
          variant="default"
          leftSection={<IconClipboard size={14} aria-hidden="true" />}
          onClick={() => setDone(undefined)}
        >
          Clipboards{seen.clipboardThere && !inStep ? " · new there" : inStep ? " · in step" : ""}
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <div className="stack clipboards">
          <Textarea
            label={`On ${host}`}
            description={seen.clipboardThere ? "Something was copied there; get it to see it." : undefined}
            value={there ?? ""}
            readOnly
            autosize
            minRows={2}
            maxRows={6}
            classNames={{ input: "mono" }}
          />
          <div className="acts">
            <Button size="compact-sm" variant="default" onClick={() => line.get()}>
              Get it from {host}
            </Button>
            <Button
              size="compact-sm"
              variant="default"
              disabled={!there}
              title={there ? undefined : "Get it first"}
              onClick={() =>
                void navigator.clipboard.writeText(there ?? "").then(
                  () => setDone("It is on your clipboard."),
                  () => setProblem("The browser lets this page not write to your clipboard; copy it from the field."),
                )
              }
            >
              Put it on mine
            </Button>
          </div>
          <Textarea
            label="Here"
            value={mine}
            onChange={(e) => setMine(e.currentTarget.value)}
            autosize
            minRows={2}
            maxRows={6}
            classNames={{ input: "mono" }}
          />
          <div className="acts">
            <Button size="compact-sm" variant="default" onClick={() => void take()}>
              Take it from my clipboard
            </Button>
            <Button
              size="compact-sm"
              variant="filled"
              disabled={!mine}
              title={mine ? undefined : "There is no text yet"}
              onClick={() => {
                line.give(mine);
                setDone(`It is on the clipboard of ${host}.`);
              }}
            >
              Send it to {host}
            </Button>
            <Button
              size="compact-sm"
              variant="default"
              disabled={!mine}
              title={mine ? "For a place that takes no clipboard" : "There is no text yet"}
              onClick={() => {
                line.keyboard.type(mine);
                setDone(`It was typed on ${host}.`);
              }}
            >
              Type it there
            </Button>
          </div>
          <Checkbox
            checked={inStep}
            onChange={(e) => setInStep(e.currentTarget.checked)}
            label="Keep both in step: what is copied at one side is at the other, too"
          />
          {problem && (
            <p role="alert" className="warning">
              {problem}
            </p>
          )}
          {done && <p role="status">{done}</p>}
        </div>
      </Popover.Dropdown>
    </Popover>
  );
}
