import { colours } from "./emblem";
import type { OwnMark } from "./useMarks";

/** The colour that the technician gave a host for himself; its word is said too. */
export function OwnColour({ mark }: { mark: OwnMark | undefined }) {
  if (!mark?.colour) return null;
  const word = `marked ${mark.colour} by you`;
  return (
    <span className="own-colour" style={{ background: colours[mark.colour]?.[0] }} title={word}>
      <span className="hidden-text">, {word}</span>
    </span>
  );
}
