/** So many are shown; the rest is counted. */
const MOST_SHOWN = 300;

/** What did not go on which host, and why. @param what is said of one thing, or of so many */
export function Problems({ of, what }: { of: { host: string; text: string }[]; what: string }) {
  if (of.length === 0) return null;
  return (
    <details className="search-problems">
      <summary>
        {of.length === 1 ? "One thing" : `${of.length} things`} {what}
      </summary>
      <ul>
        {of.slice(0, MOST_SHOWN).map((p, i) => (
          <li key={i}>
            <b>{p.host}</b> {p.text}
          </li>
        ))}
      </ul>
      {of.length > MOST_SHOWN && <p className="muted">{of.length - MOST_SHOWN} more.</p>}
    </details>
  );
}
