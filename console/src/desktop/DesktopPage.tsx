import { Button, Menu, SegmentedControl, Select } from "@mantine/core";
import { useFullscreenElement } from "@mantine/hooks";
import {
  IconCamera,
  IconEye,
  IconHandFinger,
  IconKeyboard,
  IconMaximize,
  IconStethoscope,
  IconUsers,
} from "@tabler/icons-react";
import { useCallback, useEffect, useState, useSyncExternalStore } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { WhyNot } from "../access/WhyNot";
import type { HostSummary } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useEmblems } from "../estate/useCustomers";
import { useEstate } from "../estate/useEstate";
import { saveBlob } from "../parts/file";
import { Empty } from "../parts/Trouble";
import { KeyAsked } from "../sessions/KeyAsked";
import { type Proof, useProof } from "../sessions/useProof";
import { AskColleague, AskedWords } from "./AskColleague";
import { ClipboardBox } from "./ClipboardBox";
import { DeskHolds } from "./DeskHolds";
import { DesktopLine, type DesktopSeen, unseen } from "./desktopLine";
import { DropOnto } from "./Dropped";
import { Glass, type Size } from "./Glass";
import { HandsWord, PassOn } from "./HandsWord";
import { combinations } from "./keys";
import { judge, type LineFigures } from "./lineTest";
import { Meter } from "./Meter";
import { TypeSecret } from "./TypeSecret";

const sizes: readonly { value: string; label: string }[] = [
  { value: "fit", label: "Fits the window" },
  { value: "1", label: "True size" },
  { value: "0.5", label: "Half size" },
  { value: "1.5", label: "One and a half" },
  { value: "2", label: "Twice as large" },
];

const resolutions = [
  "1024 x 768",
  "1280 x 720",
  "1280 x 800",
  "1440 x 900",
  "1600 x 900",
  "1920 x 1080",
  "2560 x 1440",
];

/** The desktop of one host, to look on or to act there. Which of the two it is shows at all times. */
export function DesktopPage() {
  const { id = "" } = useParams();
  const [search] = useSearchParams();
  const host = useEstate().hosts.get(id);
  const control = search.get("as") === "control";
  const screen = search.get("screen") ?? undefined;
  if (!host)
    return (
      <main className="page">
        <Empty title="There is no such host">
          It may have been removed. <Link to="/hosts">All hosts</Link>
        </Empty>
      </main>
    );
  return <Door key={`${id} ${String(control)} ${screen ?? ""}`} host={host} control={control} screen={screen} />;
}

/** Before the screen: what one may do there, and the host's key where it asks for it. */
function Door({ host, control, screen }: { host: HostSummary; control: boolean; screen: string | undefined }) {
  const permission = control ? "control" : "watch";
  const { may, policy, asksKey, door, setDoor, fromVault, proof, ready } = useProof(host, permission);
  const linked = host.presence.state === "linked";
  const [begun, setBegun] = useState(false);
  // A screen that is shown stays when the host goes away for a moment: its line is opened again.
  if (begun || (may(permission) && policy && ready && linked))
    return <Screen host={host} control={control} screen={screen} proof={proof} onBegun={() => setBegun(true)} />;
  return (
    <main className="page">
      <h1>
        {control ? "Control" : "Watch"} {host.label} of {customerOf(host.groupPath)}
      </h1>
      {!may(permission) ? (
        <WhyNot permission={permission} at={{ host: host.id }} />
      ) : !linked ? (
        <Empty title={`${host.label} is away`}>
          Its desktop takes a host that is linked; it is shown here as soon as it is back.
        </Empty>
      ) : (
        asksKey && (
          <KeyAsked
            host={host}
            door={door}
            onDoor={setDoor}
            fromVault={fromVault}
            act={control ? "lets its desktop be controlled" : "shows its desktop"}
          />
        )
      )}
    </main>
  );
}

/** A canvas and the line behind it, as long as what `mount` is the ref of is shown. */
function useLine(host: HostSummary, control: boolean, screen: string | undefined, proof: Proof) {
  const [open, setOpen] = useState<{ line: DesktopLine; canvas: HTMLCanvasElement }>();
  const [turn, setTurn] = useState(0);
  const mount = useCallback(
    () => {
      const canvas = document.createElement("canvas");
      const line = new DesktopLine(host, control, screen, proof, canvas);
      setOpen({ line, canvas });
      return () => {
        line.leave();
        canvas.remove();
      };
    },
    // What changes of the host while it is shown opens no second line.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [host.id, control, screen, turn],
  );
  return { ...open, mount, again: () => setTurn((t) => t + 1) };
}

/** Each monitor in a window of its own, each of them a look of its own at the screen. */
function apart(host: HostSummary, control: boolean, screen: string | undefined, monitors: number) {
  for (let i = 0; i < monitors; i++) {
    const of = new URLSearchParams({
      as: control ? "control" : "watch",
      monitor: String(i),
      ...(screen ? { screen } : {}),
    });
    window.open(
      `/hosts/${host.id}/desktop?${of.toString()}`,
      `${host.id} monitor ${String(i)}`,
      "popup,width=1000,height=700",
    );
  }
}

const nothing = () => () => undefined;
function Screen({
  host,
  control,
  screen,
  proof,
  onBegun,
}: {
  host: HostSummary;
  control: boolean;
  screen: string | undefined;
  proof: Proof;
  onBegun: () => void;
}) {
  const { line, canvas, mount, again } = useLine(host, control, screen, proof);
  const seen: DesktopSeen = useSyncExternalStore(line?.subscribe ?? nothing, line?.seen ?? (() => unseen));
  const [size, setSize] = useState("fit");
  const [search] = useSearchParams();
  const [monitor, setMonitor] = useState(search.get("monitor") ?? "all");
  const { ref, toggle, fullscreen } = useFullscreenElement();
  const emblems = useEmblems();
  const customer = customerOf(host.groupPath);
  const where = `${host.label} of ${customer}`;
  useEffect(onBegun, [onBegun]);
  const part = monitor === "all" ? undefined : seen.monitors[Number(monitor)];
  const shown: Size = size === "fit" ? "fit" : Number(size);
  const whole = async () => {
    await toggle();
    // Keys that the browser keeps otherwise go to the host, too, where it lets them.
    await keyboardLock()
      ?.lock?.()
      .catch(() => undefined);
  };
  return (
    <section
      ref={ref}
      className={control ? "desktop control" : "desktop watch"}
      style={{ "--edge": emblems(customer).field } as React.CSSProperties}
      aria-label={`Desktop of ${where}`}
    >
      <header className="desktop-head" ref={mount}>
        <span className="desktop-mode">
          {control ? <IconHandFinger size={18} aria-hidden="true" /> : <IconEye size={18} aria-hidden="true" />}
          {!control ? "You watch" : seen.hands?.mine === false ? "You wait" : "You control"}
        </span>
        <h1>{host.label}</h1>
        <span className="mono muted">{host.systemName}</span>
        <span className="whose">
          <Emblem customer={customer} size={22} />
          {readable(host.groupPath)}
        </span>
        <span className="muted">
          {seen.screen &&
            `screen ${seen.screen}, ${seen.isGiven ? "given to it for technicians" : seen.person ? `of ${seen.person}` : "nobody logged in"}`}
        </span>
        {seen.recorded && (
          <span className="recorded" role="status">
            {seen.recorded.hasKeys ? "What it shows and what you type is recorded" : "What it shows is recorded"}
          </span>
        )}
        {seen.others.length > 0 && (
          <span role="status">
            <IconUsers size={16} aria-hidden="true" /> Also here:{" "}
            {seen.others
              .map((o) => `${o.technician} ${o.acts ? "controls" : o.control ? "may control" : "watches"}`)
              .join(", ")}
          </span>
        )}
        {control && line && <PassOn line={line} seen={seen} />}
        <AskColleague host={host} there={seen.state === "connected"} screen={seen.screen} inPortal={!fullscreen} />
        <Meter seen={seen}>
          <Button
            size="compact-sm"
            variant="subtle"
            color="gray"
            leftSection={<IconStethoscope size={14} aria-hidden="true" />}
            disabled={seen.state !== "connected" || seen.tested === null}
            title={
              seen.state !== "connected"
                ? "Nothing is shown yet"
                : seen.tested === null
                  ? "It is being looked at"
                  : "Says how fast the line to the host is, and what that means"
            }
            onClick={() => line?.test()}
          >
            Look at the line
          </Button>
        </Meter>
      </header>
      <div className="desktop-tools" id="desktop-tools" role="toolbar" aria-label="Of the desktop">
        <Button size="compact-sm" variant="default" component={Link} to={`/hosts/${host.id}`}>
          Leave
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          component={Link}
          to={`/hosts/${host.id}/desktop?as=${control ? "watch" : "control"}${screen ? `&screen=${encodeURIComponent(screen)}` : ""}`}
          replace
        >
          {control ? "Only watch" : `Control ${host.label}`}
        </Button>
        <Select
          size="xs"
          aria-label="How large it is shown"
          data={
            sizes.some((s) => s.value === size)
              ? sizes
              : [...sizes, { value: size, label: `${String(Math.round(Number(size) * 100))} %` }]
          }
          value={size}
          onChange={(v) => setSize(v ?? "fit")}
          allowDeselect={false}
          comboboxProps={{ withinPortal: !fullscreen }}
        />
        {seen.monitors.length > 1 && (
          <>
            <SegmentedControl
              size="xs"
              aria-label="Which monitor"
              value={monitor}
              onChange={setMonitor}
              data={[
                { value: "all", label: "All monitors" },
                ...seen.monitors.map((_, i) => ({ value: String(i), label: `Monitor ${String(i + 1)}` })),
              ]}
            />
            <Button
              size="compact-sm"
              variant="default"
              onClick={() => apart(host, control, screen, seen.monitors.length)}
            >
              Each in its own window
            </Button>
          </>
        )}
        <Button
          size="compact-sm"
          variant="default"
          leftSection={<IconMaximize size={14} aria-hidden="true" />}
          onClick={() => void whole()}
        >
          {fullscreen ? "Out of full screen" : "Full screen"}
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          leftSection={<IconCamera size={14} aria-hidden="true" />}
          disabled={seen.width === 0}
          title={seen.width === 0 ? "Nothing is shown yet" : undefined}
          onClick={() =>
            void line?.picture().then((png) => saveBlob(`${host.systemName} ${fileTime(new Date())}.png`, png))
          }
        >
          Save a picture
        </Button>
        {control && line && (
          <>
            <Keys line={line} inPortal={!fullscreen} />
            <TypeSecret line={line} inPortal={!fullscreen} />
            <ClipboardBox line={line} seen={seen} host={host.label} inPortal={!fullscreen} />
            <Menu position="bottom-start" shadow="md" withinPortal={!fullscreen}>
              <Menu.Target>
                <Button size="compact-sm" variant="default">
                  {seen.width ? `${String(seen.width)} x ${String(seen.height)}` : "Size of the screen"}
                </Button>
              </Menu.Target>
              <Menu.Dropdown>
                <Menu.Label>Give the screen of {host.label} another size</Menu.Label>
                {resolutions.map((r) => (
                  <Menu.Item
                    key={r}
                    onClick={() => {
                      const [width = 0, height = 0] = r.split(" x ").map(Number);
                      line.resize(width, height);
                    }}
                  >
                    {r}
                  </Menu.Item>
                ))}
              </Menu.Dropdown>
            </Menu>
            <DeskHolds line={line} seen={seen} host={host.label} inPortal={!fullscreen} />
          </>
        )}
      </div>
      {seen.word && (
        <p className="desktop-word" role={seen.state === "ended" || seen.state === "broken" ? "alert" : "status"}>
          {seen.word}
          {seen.state === "ended" && (
            <Button size="compact-sm" variant="filled" onClick={again}>
              Open it again
            </Button>
          )}
        </p>
      )}
      {control && line && <HandsWord line={line} seen={seen} />}
      <AskedWords host={host} />
      {seen.endsAt !== undefined && (
        <p className="desktop-word" role="alert">
          Nobody has done anything here for 25 minutes. The session ends at{" "}
          {new Date(seen.endsAt).toTimeString().slice(0, 5)}.
          <Button size="compact-sm" variant="filled" onClick={() => line?.stay()}>
            Stay at {host.label}
          </Button>
        </p>
      )}
      {seen.tested !== undefined && (
        <p className="desktop-word" role="status">
          {seen.tested === null ? (
            "Looking at the line …"
          ) : (
            <>
              <LineWords figures={seen.tested} />
              <Button size="compact-sm" variant="default" onClick={() => line?.forgetTest()}>
                Put this word away
              </Button>
            </>
          )}
        </p>
      )}
      {seen.hold?.problem && !seen.word && (
        <p className="desktop-word" role="status">
          Not as it was asked for: {seen.hold.problem}
        </p>
      )}
      {!seen.word && seen.state === "opening" && <p className="desktop-word">Asking {host.label} for its screen …</p>}
      <DropOnto host={host}>
        <Glass
          line={line}
          seen={seen}
          canvas={canvas}
          size={shown}
          part={part}
          label={`Screen of ${where}`}
          onZoom={(now, by) => setSize(String(Math.min(4, Math.max(0.25, now * by))))}
        />
      </DropOnto>
    </section>
  );
}

/** What was found about the line. */
function LineWords({ figures }: { figures: LineFigures }) {
  const said = judge(figures);
  return (
    <span>
      {said.poor ? <b className="warning">{said.means}</b> : said.means} <span className="muted">({said.figures})</span>
    </span>
  );
}

/** Keys that this computer would keep for itself, and how the others are told. */
function Keys({ line, inPortal }: { line: DesktopLine; inPortal: boolean }) {
  const [byPlace, setByPlace] = useState(false);
  return (
    <Menu position="bottom-start" shadow="md" withinPortal={inPortal}>
      <Menu.Target>
        <Button size="compact-sm" variant="default" leftSection={<IconKeyboard size={14} aria-hidden="true" />}>
          Keys
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>Press on {line.host.label}</Menu.Label>
        {combinations.map((c) => (
          <Menu.Item key={c.words} onClick={() => line.keyboard.press(c.syms)}>
            {c.words}
          </Menu.Item>
        ))}
        <Menu.Divider />
        <Menu.Label>Ctrl Shift ↑ leads from the screen to these buttons</Menu.Label>
        <Menu.Item
          role="menuitemcheckbox"
          aria-checked={byPlace}
          closeMenuOnClick={false}
          onClick={() => {
            line.keyboard.count(!byPlace);
            setByPlace(!byPlace);
          }}
        >
          {byPlace ? "☑" : "☐"} By the place of the key: the host’s own layout counts
        </Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}

const fileTime = (at: Date) => `${at.toISOString().slice(0, 10)} ${at.toTimeString().slice(0, 8).replaceAll(":", ".")}`;

/** Of the Keyboard Lock draft; not every browser has it. */
const keyboardLock = () => (navigator as Navigator & { keyboard?: { lock?: () => Promise<void> } }).keyboard;
