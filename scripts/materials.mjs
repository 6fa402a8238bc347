// Writes what the programs and the console are made of as a bill of materials: CycloneDX 1.6 (ECMA-424), JSON, from the lock files.
import { readdirSync, readFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const root = join(dirname(fileURLToPath(import.meta.url)), "..");
const read = (file) => JSON.parse(readFileSync(join(root, file), "utf8"));
const parts = new Map();
const needs = new Map();

function add(component, whose) {
  parts.set(component["bom-ref"], { ...parts.get(component["bom-ref"]), ...component });
  needs.set(whose, (needs.get(whose) ?? new Set()).add(component["bom-ref"]));
}

for (const project of readdirSync(join(root, "src")).sort()) {
  for (const packages of Object.values(read(`src/${project}/packages.lock.json`).dependencies)) {
    for (const [name, { type, resolved }] of Object.entries(packages)) {
      if (type === "Project") continue;
      const purl = `pkg:nuget/${encodeURIComponent(name)}@${resolved}`;
      add({ type: "library", "bom-ref": purl, name, version: resolved, purl }, project);
    }
  }
}

for (const [path, { version, integrity, license, dev }] of Object.entries(read("console/package-lock.json").packages)) {
  if (path === "" || dev) continue;
  const name = path.slice(path.lastIndexOf("node_modules/") + "node_modules/".length);
  const purl = `pkg:npm/${name.replace("@", "%40")}@${version}`;
  const hash = /^sha512-(.+)$/.exec(integrity ?? "")?.[1];
  add(
    {
      type: "library",
      "bom-ref": purl,
      name,
      version,
      purl,
      ...(hash && { hashes: [{ alg: "SHA-512", content: Buffer.from(hash, "base64").toString("hex") }] }),
      ...(license && { licenses: [/ (OR|AND) /.test(license) ? { expression: license } : { license: { id: license } }] }),
    },
    "console",
  );
}

const version = /<Version>(.+)<\/Version>/.exec(readFileSync(join(root, "Directory.Build.props"), "utf8"))[1];
const sorted = (values) => [...values].sort((a, b) => (a < b ? -1 : 1));
const programs = sorted(needs.keys());
process.stdout.write(
  JSON.stringify(
    {
      $schema: "http://cyclonedx.org/schema/bom-1.6.schema.json",
      bomFormat: "CycloneDX",
      specVersion: "1.6",
      version: 1,
      metadata: { component: { type: "application", "bom-ref": "umbrek", name: "Umbrek", version } },
      components: [
        ...programs.map((name) => ({ type: "application", "bom-ref": name, name })),
        ...sorted(parts.keys()).map((ref) => parts.get(ref)),
      ],
      dependencies: [
        { ref: "umbrek", dependsOn: programs },
        ...programs.map((name) => ({ ref: name, dependsOn: sorted(needs.get(name)) })),
      ],
    },
    null,
    2,
  ) + "\n",
);
