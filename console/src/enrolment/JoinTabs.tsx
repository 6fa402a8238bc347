import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/join", name: "Installers" },
  { to: "/join/find", name: "Find computers" },
  { to: "/join/agents", name: "Agent updates" },
];

export const JoinTabs = () => <Tabs of="Join" tabs={tabs} />;
