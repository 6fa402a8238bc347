import { Button, Menu } from "@mantine/core";
import { IconKeyboardOff, IconLock } from "@tabler/icons-react";
import type { DeskHold, DesktopLine, DesktopSeen, HoldAsk } from "./desktopLine";

interface Choice {
  label: string;
  says: string;
  isSo: (hold: DeskHold | undefined) => boolean;
  ask: (so: boolean) => HoldAsk;
}

const choices: readonly Choice[] = [
  {
    label: "Take their keyboard",
    says: "What they type and click has no effect; a strip on the screen tells them.",
    isSo: (h) => h?.isTaken ?? false,
    ask: (takeInput) => ({ takeInput }),
  },
  {
    label: "Hide the screen from them",
    says: "They see a message instead of it, and have no keyboard. You see it as before.",
    isSo: (h) => h?.isHidden ?? false,
    ask: (hide) => ({ hide }),
  },
  {
    label: "Lock it when I leave",
    says: "Whoever is logged in there has to give the password again, however you leave.",
    isSo: (h) => h?.locks ?? false,
    ask: (lock) => ({ lock }),
  },
];

/** What is kept from whoever sits at the host, for as long as one is there. */
export function DeskHolds({
  line,
  seen,
  host,
  inPortal,
}: {
  line: DesktopLine;
  seen: DesktopSeen;
  host: string;
  inPortal: boolean;
}) {
  const hold = seen.hold;
  const connected = seen.state === "connected";
  const held = hold?.isHidden ? "Screen hidden" : hold?.isTaken ? "Keyboard taken" : "At the desk";
  return (
    <Menu position="bottom-start" shadow="md" withinPortal={inPortal} width={340}>
      <Menu.Target>
        <Button
          size="compact-sm"
          variant={hold?.isTaken ? "filled" : "default"}
          leftSection={<IconKeyboardOff size={14} aria-hidden="true" />}
          rightSection={hold?.locks ? <IconLock size={14} role="img" aria-label="locked when I leave" /> : undefined}
          disabled={!connected}
          title={connected ? `What the people at ${host} can do and see meanwhile` : "Nothing is shown yet"}
        >
          {held}
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>The people at {host}</Menu.Label>
        {choices.map((c) => {
          const so = c.isSo(hold);
          return (
            <Menu.CheckboxItem key={c.label} checked={so} onChange={() => line.hold(c.ask(!so))}>
              {c.label}
              <span className="menu-says">{c.says}</span>
            </Menu.CheckboxItem>
          );
        })}
      </Menu.Dropdown>
    </Menu>
  );
}
