import { Button } from "@mantine/core";

/** What a host says on a line to it, or why the line is over, with a way to look again. */
export function LineWord({ word, over, onAgain }: { word: string | undefined; over: boolean; onAgain: () => void }) {
  if (!word) return null;
  return (
    <p className={over ? "trouble" : "muted"} role="status">
      {word}{" "}
      {over && (
        <Button size="compact-sm" variant="default" onClick={onAgain}>
          Look again
        </Button>
      )}
    </p>
  );
}
