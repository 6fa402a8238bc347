// Prints the ten slowest tests of a report: xUnit's XML or Vitest's JSON.
import { readFileSync } from "node:fs";

const report = readFileSync(process.argv[2], "utf8");
const tests = process.argv[2].endsWith(".json")
  ? JSON.parse(report).testResults.flatMap((file) => file.assertionResults.map((test) => ({ name: test.fullName, seconds: (test.duration ?? 0) / 1000 })))
  : [...report.matchAll(/<test [^>]*? name="([^"]*)"[^>]*? time="([^"]*)"/g)].map(([, name, time]) => ({ name: name.replace(/^Umbrek\.\w+\.Tests\./, "").replaceAll("\\&quot;", "'"), seconds: Number(time) }));
for (const { name, seconds } of tests.sort((a, b) => b.seconds - a.seconds).slice(0, 10)) {
  console.log(`  ${seconds.toFixed(1).padStart(6)} s  ${name}`);
}
