import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/people", name: "Technicians" },
  { to: "/people/reach", name: "Who reaches what" },
  { to: "/people/roles", name: "Roles" },
  { to: "/people/vault", name: "Vault" },
  { to: "/people/audit", name: "Audit" },
];

export const PeopleTabs = () => <Tabs of="People" tabs={tabs} />;
