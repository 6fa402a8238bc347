import { Button } from "@mantine/core";
import { useState } from "react";

/** Something to hand on as it is, with a button that copies it. */
export function CopyLine({ label, text }: { label: string; text: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <div>
      <div className="muted">{label}</div>
      <div className="copy-line">
        <pre className="output" aria-label={label}>
          {text}
        </pre>
        <Button
          variant="default"
          aria-label={`Copy: ${label}`}
          onClick={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}
        >
          {copied ? "Copied" : "Copy"}
        </Button>
      </div>
    </div>
  );
}
