import "@fontsource-variable/hanken-grotesk";
import "@fontsource-variable/jetbrains-mono";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { follow } from "./api/live";
import { App } from "./App";
import { reloadWhereAPartIsMissing } from "./shared/chunks";

// Events keep everything fresh: nothing is asked for again by itself.
const client = new QueryClient({
  defaultOptions: { queries: { staleTime: Infinity, retry: 2, refetchOnWindowFocus: false } },
});

reloadWhereAPartIsMissing();
// Before anything is loaded, so that little is loaded twice.
follow(client);

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
