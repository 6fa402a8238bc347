import { Tabs } from "../parts/Tabs";
import { useShells } from "../shell/shellDesk";

export function SessionsTabs() {
  const open = useShells().length;
  return (
    <Tabs
      of="Sessions"
      tabs={[
        { to: "/sessions", name: "Who is connected" },
        { to: "/sessions/shells", name: open === 0 ? "Your shells" : `Your shells (${String(open)})` },
        { to: "/sessions/recordings", name: "Recordings" },
      ]}
    />
  );
}
