import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/rules", name: "Checks" },
  { to: "/rules/notices", name: "Notices" },
  { to: "/rules/reactions", name: "Reactions" },
  { to: "/rules/maintenance", name: "Maintenance" },
  { to: "/rules/policies", name: "Host policies" },
];

export const RulesTabs = () => <Tabs of="Rules" tabs={tabs} />;
