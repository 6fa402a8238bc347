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
await shot("console-sign-in.png");
await page.getByLabel("Name").fill(name);
await page.getByRole("textbox", { name: "Password" }).fill(password);
await page.getByRole("button", { name: "Sign in" }).click();
await page.getByText("dome-control").first().waitFor();
await shot("console-hosts.png");

await page.getByText("dome-capture-02").first().click();
await page.getByRole("heading", { name: "dome-capture-02", exact: true }).waitFor();
await page.getByLabel("Command line for dome-capture-02").fill("hostname; uptime; df -h");
await page.getByRole("button", { name: /^Run on dome-capture-02/ }).click();
await page
  .getByText(/failed|succeeded/)
  .first()
  .waitFor();
await page.getByLabel(/Processor: now/).waitFor();
await shot("console-host.png");

await page.getByRole("link", { name: "Work" }).click();
await page.getByRole("heading", { name: "Work" }).waitFor();
await page.locator("a.job-row").first().waitFor();
await shot("console-work.png");

await page.locator("a.job-row", { hasText: "uname -r" }).first().click();
await page.getByLabel(/^Output of/).waitFor();
await shot("console-job.png");

await page.goto(`${address}/join`);
await page.getByPlaceholder("Choose").click();
await page.getByRole("option", { name: /Farm Shop/ }).click();
await page.getByRole("button", { name: "Make a token" }).click();
await page.getByText("It is shown this once").waitFor();
await shot("console-join.png");

await page.emulateMedia({ colorScheme: "light" });
await page.goto(`${address}/hosts?scope=${encodeURIComponent("Saltmarsh Ferry")}`);
await page.getByText("quay-ticket-01").first().waitFor();
await shot("console-hosts-day.png");

await page.setViewportSize({ width: 390, height: 844 });
await page.emulateMedia({ colorScheme: "dark" });
await page.getByText("quay-ticket-03").first().waitFor();
await shot("console-hosts-phone.png");
await page.getByText("quay-ticket-03").first().click();
await page.getByLabel(/Processor: now/).waitFor();
await shot("console-host-phone.png");

await browser.close();
rmSync(profile, { recursive: true, force: true });
