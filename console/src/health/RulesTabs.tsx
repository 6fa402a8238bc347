import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/rules", name: "Checks" },
  { to: "/rules/policies", name: "Host policies" },
];

export const RulesTabs = () => <Tabs of="Rules" tabs={tabs} />;
