import { readdirSync, readFileSync } from "node:fs";
import { readdir, readFile, writeFile } from "node:fs/promises";
import path from "node:path";
import { promisify } from "node:util";
import { brotliCompress, gzip } from "node:zlib";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

const compressible = /\.(js|css|svg|json|txt)$/;

/** Puts NAME.br and NAME.gz beside each text file of the build; the service sends those to browsers that accept them. */
function precompress(directory: string): Plugin {
  return {
    name: "precompress",
    apply: "build",
    async closeBundle() {
      const files = (await readdir(directory, { recursive: true })).filter((name) => compressible.test(name));
      await Promise.all(
        files.map(async (name) => {
          const file = path.join(directory, name);
          const content = await readFile(file);
          const [brotli, gzipped] = await Promise.all([
            promisify(brotliCompress)(content),
            promisify(gzip)(content, { level: 9 }),
          ]);
          await Promise.all([writeFile(`${file}.br`, brotli), writeFile(`${file}.gz`, gzipped)]);
        }),
      );
    },
  };
}

/** The files of tests that replace a module for themselves, or those that don't. */
function tests(replacing: boolean): string[] {
  const isTest = (name: string) => /\.test\.tsx?$/.test(name);
  return readdirSync("src", { recursive: true, encoding: "utf8" })
    .map((name) => `src/${name}`)
    .filter((name) => isTest(name) && readFileSync(name, "utf8").includes("vi.mock(") === replacing);
}

const output = "../out/console";

export default defineConfig({
  plugins: [react(), precompress(path.resolve(import.meta.dirname, output))],
  build: {
    outDir: output,
    emptyOutDir: true,
    // The content security policy allows no inline content.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    sourcemap: false,
  },
  server: {
    proxy: {
      "/api": { target: "https://localhost:8443", secure: false },
      "/live": { target: "https://localhost:8443", secure: false, ws: true },
    },
  },
  test: {
    // Each core has a worker; by default one core is left to a watcher that is not there.
    maxWorkers: "100%",
    restoreMocks: true,
    testTimeout: 20_000,
    environment: "jsdom",
    setupFiles: ["src/test-setup.ts"],
    // Loading the modules and the page's stand-in for each file takes longer than most tests: files share them, except those that replace a module.
    projects: [
      { extends: true, test: { name: "shared", include: tests(false), isolate: false } },
      { extends: true, test: { name: "apart", include: tests(true), isolate: true } },
    ],
  },
});
