import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { askAgainAfter, mayAskAgain } from "./api";
import { App } from "./app";
import "./app.css";
import { Fault } from "./parts/fault";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      refetchOnWindowFocus: false,
      retry: mayAskAgain,
      retryDelay: askAgainAfter,
      networkMode: "always",
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <Tooltip.Provider delayDuration={200}>
          <Fault>
            <App />
          </Fault>
        </Tooltip.Provider>
      </QueryClientProvider>
    </StrictMode>,
  );
}
