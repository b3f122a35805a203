import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { createRoot } from "react-dom/client";
import { cache } from "./api/queries";
import "./index.css";
import { App } from "./shell/App";

createRoot(document.getElementById("root")!).render(
  <QueryClientProvider client={cache}>
    <Tooltip.Provider delayDuration={250}>
      <App />
    </Tooltip.Provider>
  </QueryClientProvider>,
);
