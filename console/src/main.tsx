import { MutationCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";

import { App } from "./App";
import { CallError } from "./api/client";
import { showOwnChange } from "./parts/hold";
import "./styles.css";

/** Asking again helps where the service did not answer; what it refused it refuses again. */
const mayHelp = (failed: number, error: Error) =>
  failed < 2 && !(error instanceof CallError && error.problem !== undefined && error.problem.status < 500);

// The event stream says when something changed: nothing is asked for on a timer.
const queries = new QueryClient({
  mutationCache: new MutationCache({ onSuccess: showOwnChange }),
  defaultOptions: { queries: { staleTime: Infinity, refetchOnWindowFocus: false, retry: mayHelp } },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
