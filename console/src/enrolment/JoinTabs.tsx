import { NavLink } from "react-router";
import { useScope } from "../estate/useEstate";

const tabs = [
  { to: "/join", name: "Installers" },
  { to: "/join/find", name: "Find computers" },
  { to: "/join/agents", name: "Agent updates" },
];

export function JoinTabs() {
  const [scope] = useScope();
  return (
    <nav className="places" aria-label="Parts of Join">
      {tabs.map((t) => (
        <NavLink key={t.to} end to={{ pathname: t.to, search: scope ? `?scope=${encodeURIComponent(scope)}` : "" }}>
          {t.name}
        </NavLink>
      ))}
    </nav>
  );
}
