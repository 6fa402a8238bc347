import "@testing-library/jest-dom/vitest";
import { cleanup, configure } from "@testing-library/react";
import { afterEach } from "vitest";

// jsdom has none of these; Mantine asks for them.
Object.defineProperty(document, "fonts", {
  configurable: true,
  value: { addEventListener: () => undefined, removeEventListener: () => undefined },
});
Object.defineProperty(window, "matchMedia", {
  configurable: true,
  value: (query: string) => ({
    matches: false,
    media: query,
    addEventListener: () => undefined,
    removeEventListener: () => undefined,
    addListener: () => undefined,
    removeListener: () => undefined,
  }),
});
globalThis.ResizeObserver = class {
  observe() {}
  unobserve() {}
  disconnect() {}
};

// A busy machine takes its time; what never comes is waited for as long.
configure({ asyncUtilTimeout: 10_000 });
afterEach(cleanup);

// A page without a screen scrolls nothing.
Element.prototype.scrollIntoView ??= () => undefined;
