import { NavLink } from "react-router";
import { useScope } from "./useEstate";

const tabs = [
  { to: "/hosts", name: "Hosts" },
  { to: "/hosts/groups", name: "Groups" },
  { to: "/hosts/customers", name: "Customers" },
];

export function HostsTabs() {
  const [scope] = useScope();
  return (
    <nav className="places" aria-label="Parts of Hosts">
      {tabs.map((t) => (
        <NavLink key={t.to} end to={{ pathname: t.to, search: scope ? `?scope=${encodeURIComponent(scope)}` : "" }}>
          {t.name}
        </NavLink>
      ))}
    </nav>
  );
}
