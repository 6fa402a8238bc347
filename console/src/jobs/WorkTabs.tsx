import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/work", name: "Jobs" },
  { to: "/work/scripts", name: "Scripts" },
];

export const WorkTabs = () => <Tabs of="Work" tabs={tabs} />;
