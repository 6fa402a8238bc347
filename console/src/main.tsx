import "@fontsource-variable/atkinson-hyperlegible-mono";
import "@fontsource-variable/atkinson-hyperlegible-next";
import { MantineProvider } from "@mantine/core";
import "@mantine/core/styles.css";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App";
import { whenLineIsLost } from "./api/live";
import { newQueryClient } from "./api/queries";
import { meQuery } from "./access/useMay";
import { estateStore } from "./estate/estateStore";
import "./theme/look.css";
import { theme } from "./theme/theme";

const queries = newQueryClient();
const nonce = document.querySelector<HTMLMetaElement>("meta[name=csp-nonce]")?.content;

// Somebody who was signed out elsewhere sees it at once, and not with the next thing that is asked for.
whenLineIsLost(() => void queries.invalidateQueries({ queryKey: meQuery.queryKey }));

// Where somebody is signed in the service says so in the page: what is needed first is then asked for before it is drawn.
if (document.getElementById("signed-in")) {
  void queries.prefetchQuery(meQuery);
  estateStore.open();
}

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <MantineProvider theme={theme} defaultColorScheme="auto" getStyleNonce={() => nonce ?? ""}>
        <QueryClientProvider client={queries}>
          <BrowserRouter>
            <App />
          </BrowserRouter>
        </QueryClientProvider>
      </MantineProvider>
    </StrictMode>,
  );
}
