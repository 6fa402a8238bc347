/* global document, localStorage */
// Takes the pictures in docs/screenshots of a running demo:
//   node take.mjs ADDRESS KEY-SHA256-HEX NAME PASSWORD DIRECTORY
// The browser trusts the demo's certificate by the hash of its key and nothing else.
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium } from "playwright-core";

const [address, key, name, password, directory] = process.argv.slice(2);
const profile = mkdtempSync(join(tmpdir(), "umbrek-browser-"));
const browser = await chromium.launchPersistentContext(profile, {
  executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
  args: [
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    `--ignore-certificate-errors-spki-list=${Buffer.from(key, "hex").toString("base64")}`,
  ],
  viewport: { width: 1280, height: 800 },
  colorScheme: "dark",
  locale: "en-GB",
  timezoneId: "UTC",
});
const page = await browser.newPage();
page.on("console", (m) => m.type() === "error" && console.error("page:", m.text()));
const shot = async (file) => {
  await page.waitForLoadState("networkidle").catch(() => undefined);
  await page.screenshot({ path: join(directory, file) });
  console.log(file);
};

await page.goto(address);
await page.getByRole("heading", { name: "Sign in" }).waitFor();
await page.getByLabel("Name").fill(name);
await page.getByRole("textbox", { name: "Password" }).fill(password);
await page.getByRole("button", { name: "Sign in", exact: true }).click();
await page.getByRole("heading", { name: "What needs a person" }).waitFor();
await page.getByRole("button", { name: "It is mine" }).click();
await page.getByText("Was that you?").waitFor({ state: "detached" });
await page.goto(`${address}/hosts`);
await page.getByText("dome-control").first().waitFor();
await shot("console-hosts.png");

await page.keyboard.press("/");
await page.keyboard.type("tikcet");
await page.getByRole("option", { name: /quay-ticket-04/ }).waitFor();
await page.keyboard.press("Escape");

await page.goto(`${address}/hosts`);
await page.getByText("dome-capture-02").first().click();
await page.getByRole("heading", { name: "dome-capture-02", exact: true }).waitFor();
await page.getByLabel("Command line for dome-capture-02").fill("hostname; uptime; df -h");
await page.getByRole("button", { name: /^Run on dome-capture-02/ }).click();
await page
  .getByText(/failed|succeeded/)
  .first()
  .waitFor();
await page.getByLabel(/Processor: +now/).waitFor();
await shot("console-host.png");
await page.getByRole("button", { name: /^Open a shell on dome-capture-02/ }).click();
const prompts = (count) =>
  page.waitForFunction((n) => document.querySelector(".xterm-rows")?.textContent.split(":~#").length > n, count);
await prompts(1);
await page.keyboard.type("uptime\ndf -h\nsystemctl is-active capture\n");
await prompts(4);
await page.getByRole("link", { name: "Sessions" }).click();
await page.getByRole("link", { name: /Your shells/ }).click();
await prompts(4);
await shot("console-shell.png");

// One panel at a time: what runs on a server, and the services of a kiosk whose printing has failed or was started again.
const bench = async (host, panel) => {
  await page.evaluate((p) => localStorage.setItem("umbrek.bench", p), panel);
  await page.goto(`${address}/hosts?on=${host}`);
  await page.getByRole("link", { name: host }).first().click();
  await page.getByRole("button", { name: `Look at the ${panel.toLowerCase()} of ${host}` }).click();
};
await bench("quay-ticket-03", "Files");
await page.getByLabel("Folder", { exact: true }).fill("/etc/kiosk");
await page.getByLabel("Folder", { exact: true }).press("Enter");
await page.locator("input[type=file]:not([webkitdirectory])").setInputFiles(
  ["winter-timetable.csv", "quay-plan.svg"].map((name, n) => ({
    name,
    mimeType: "text/plain",
    buffer: Buffer.alloc(2100 + 700 * n, "Saltmarsh Quay;Ebb Island;pier 2\n"),
  })),
);
await page.getByText("2 of 2 sent").waitFor();
await page.getByRole("button", { name: "Change timetable.csv" }).click();
await page.getByRole("menuitem", { name: "Delete, to the trash" }).click();
await page.getByText("lies in the trash").waitFor();
await page.getByRole("button", { name: "kiosk.conf", exact: true }).click();
await page.getByRole("button", { name: "Edit", exact: true }).click();
await page.getByLabel(/^Text of/).press("End");
await page.keyboard.type(" (and at night)");
await shot("console-files.png");
await page.evaluate(() => localStorage.removeItem("umbrek.bench"));

await page.goto(`${address}/now`);
// What fills up is known as soon as its past is rolled up.
const filling = page.getByRole("link", { name: /ripening-climate-02 is .* will be full/ });
await filling.waitFor({ timeout: 180_000 });
await page.getByText("Every customer").waitFor();
await shot("console-now.png");
await filling.click();
await page.getByLabel(/Storage in use: .*an alert is raised at/).waitFor();
await shot("console-alert.png");
await page.goto(`${address}/rules`);
await page.getByText("Storage fills up").waitFor();
await shot("console-checks.png");
await page.goto(`${address}/hosts?scope=${encodeURIComponent("Saltmarsh Ferry/Quay/Ticketing")}`);
await page.getByText("quay-ticket-03").first().click();
await page.getByRole("link", { name: "Control quay-ticket-03" }).click();
await page.getByText("screen :0").waitFor();
await page.locator(".glass canvas").waitFor();
await page.locator(".glass").click({ position: { x: 700, y: 420 } });
await page.keyboard.type("The printer is out of paper again; I have asked Elin to bring a roll.");
await page.getByText(/pictures?\/s/).waitFor();
await page.waitForTimeout(1200);
await shot("console-desktop.png");
await page.goto(`${address}/sessions/recordings`);
await page.getByLabel("Watch what Tomasz Vail did on creamery-office-01").click();
const happened = page.getByRole("list", { name: "What happened" });
await happened.getByText("something is typed").click();
await page.getByRole("button", { name: "Play" }).click();
await page.waitForTimeout(5000);
await page.getByRole("button", { name: "Stop" }).click();
await shot("console-replay.png");

await page.getByRole("link", { name: "Work" }).click();
await page.getByRole("heading", { name: "Work" }).waitFor();
await page.locator("a.job-row", { hasText: "uname -r" }).first().click();
await page.getByText("count as equal").waitFor();
await page.getByLabel("stdout of both").first().waitFor();
await shot("console-job.png");

await page.goto(
  `${address}/work/new?files&on=${encodeURIComponent('in "Saltmarsh Ferry" or in "Tarn Valley Creamery"')}`,
);
await page.getByLabel("Files to deliver", { exact: true }).setInputFiles([
  {
    name: "Summer timetable.pdf",
    mimeType: "application/pdf",
    buffer: Buffer.alloc(24_000_000, "Saltmarsh Quay;Ebb Island;pier 2\n"),
  },
  { name: "quay-plan.svg", mimeType: "image/svg+xml", buffer: Buffer.alloc(2800, "<path d='M0 84'/>\n") },
]);
await page.getByLabel("Folder", { exact: true }).fill("/srv/board");
// So slowly that it is under way for as long as anybody looks.
await page.getByText("Owner, mode and rate").click();
await page.getByLabel("To all hosts together at most, MiB a second").fill("2");
await page.getByRole("button", { name: /^Put them on/ }).click();
await page.getByText("Host by host").click();
await page
  .getByText(/has fetched/)
  .first()
  .waitFor();
await shot("console-deliver.png");
await page.getByRole("button", { name: /^End it on/ }).click();

await page.goto(`${address}/people/reach`);
await page.getByText("view and files").waitFor();
await shot("console-reach.png");
await page.goto(`${address}/people/vault`);
await page.getByText("till supervisor").waitFor();
await shot("console-vault.png");
await page.goto(`${address}/people/audit`);
await page.getByText("job.create").first().waitFor();
await shot("console-audit.png");

await page.goto(`${address}/join`);
await page.getByText("wait to be let in").waitFor();
await shot("console-join.png");
await page.locator("a.installer-row", { hasText: "kiosks for the new landing stage" }).click();
await page.getByText("Hand it out").waitFor();
const link = await page.getByLabel("A link for the person at the computer", { exact: true }).innerText();

await page.goto(link);
await page.getByRole("heading", { name: "Let this computer be looked after" }).waitFor();
await shot("console-offer.png");

await browser.close();
rmSync(profile, { recursive: true, force: true });
