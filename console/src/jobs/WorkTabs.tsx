import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/work", name: "Jobs" },
  { to: "/work/scripts", name: "Scripts" },
  { to: "/work/runbooks", name: "Runbooks" },
  { to: "/work/files", name: "Find files" },
  { to: "/work/twins", name: "Twins" },
  { to: "/work/shelves", name: "Shelves" },
];

export const WorkTabs = () => <Tabs of="Work" tabs={tabs} />;
