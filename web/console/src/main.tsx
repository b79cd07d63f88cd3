import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./app";
import "./app.css";

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <Tooltip.Provider delayDuration={200}>
        <App />
      </Tooltip.Provider>
    </StrictMode>,
  );
}
