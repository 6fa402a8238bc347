import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: {
    outDir: "../out/console",
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
  test: { environment: "jsdom", setupFiles: ["src/test-setup.ts"], restoreMocks: true, testTimeout: 60_000 },
});
