import { NavLink } from "react-router";
import { useScope } from "../estate/useEstate";

/** The parts of a place, side by side; the scope stays while moving between them. */
export function Tabs({ of, tabs }: { of: string; tabs: { to: string; name: string }[] }) {
  const [scope] = useScope();
  return (
    <nav className="places" aria-label={`Parts of ${of}`}>
      {tabs.map((t) => (
        <NavLink key={t.to} end to={{ pathname: t.to, search: scope ? `?scope=${encodeURIComponent(scope)}` : "" }}>
          {t.name}
        </NavLink>
      ))}
    </nav>
  );
}
