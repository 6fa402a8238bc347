import { useLocation, useSearchParams } from "react-router";

export type View = "answers" | "hosts" | "search";

const views: readonly string[] = ["answers", "hosts", "search"];

/** Which part of a job is looked at, and which of its runs; it stands in the address, beside whatever else does. */
export function useView() {
  const [query, setQuery] = useSearchParams();
  const { search } = useLocation();
  const asked = query.get("view");
  const to = (view: View, run?: string) => {
    const next = new URLSearchParams(search);
    next.set("view", view);
    if (run) next.set("run", run);
    return next;
  };
  return {
    view: asked !== null && views.includes(asked) ? (asked as View) : undefined,
    run: query.get("run"),
    show: (view: View, run?: string) => setQuery(to(view, run), { replace: true }),
    /** For a link to one host's output. */
    toRun: (run: string) => ({ search: `?${to("hosts", run)}` }),
  };
}
