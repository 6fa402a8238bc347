import { memo } from "react";
import { Tabs } from "../parts/Tabs";

const tabs = [
  { to: "/hosts", name: "Hosts" },
  { to: "/hosts/screens", name: "Screens" },
  { to: "/hosts/groups", name: "Groups" },
  { to: "/hosts/customers", name: "Customers" },
];

export const HostsTabs = memo(function HostsTabs() {
  return <Tabs of="Hosts" tabs={tabs} />;
});
