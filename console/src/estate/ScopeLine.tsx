import { NavLink } from "react-router";
import type { AlertsChanged, Me } from "../api/types";
import { SignOut } from "../access/SignOut";
import { Emblem } from "./Emblem";
import { QuickFind } from "./QuickFind";
import { useScope } from "./useEstate";

const places = [
  { to: "/now", name: "Now" },
  { to: "/hosts", name: "Hosts" },
  { to: "/work", name: "Work" },
  { to: "/sessions", name: "Sessions" },
  { to: "/rules", name: "Rules" },
  { to: "/people", name: "People" },
  { to: "/join", name: "Join" },
];

/** Where we are and what is in view: always on top, on every page. */
export function ScopeLine({ me, waiting = 0, alerts }: { me: Me; waiting?: number; alerts?: AlertsChanged }) {
  const [scope, setScope] = useScope();
  const names = scope ? scope.split("/") : [];

  return (
    <header className="scope-line">
      <nav className="places" aria-label="Places">
        {places.map((p) => (
          <NavLink key={p.to} to={{ pathname: p.to, search: scope ? `?scope=${encodeURIComponent(scope)}` : "" }}>
            {p.name}
            {p.to === "/now" && alerts !== undefined && alerts.open > 0 && (
              <span className={alerts.critical > 0 ? "waits trouble" : "waits"}>
                {" "}
                {alerts.open}
                <span className="hidden-text">
                  {" "}
                  open alerts{alerts.critical > 0 && `, ${alerts.critical} of them critical`}
                </span>
              </span>
            )}
            {p.to === "/join" && waiting > 0 && (
              <span className="waits">
                {" "}
                {waiting}
                <span className="hidden-text"> waiting</span>
              </span>
            )}
          </NavLink>
        ))}
      </nav>
      <nav className="crumbs" aria-label="Scope">
        <button type="button" className={scope ? "" : "here"} onClick={() => setScope("")}>
          Everything
        </button>
        {names.map((name, i) => (
          <span key={name + i} style={{ display: "contents" }}>
            <span className="mark" aria-hidden="true">
              ▸
            </span>
            {i === 0 && <Emblem customer={name} />}
            <button
              type="button"
              className={i === names.length - 1 ? "here" : ""}
              onClick={() => setScope(names.slice(0, i + 1).join("/"))}
            >
              {name}
            </button>
          </span>
        ))}
      </nav>
      <QuickFind />
      <SignOut me={me} />
    </header>
  );
}
