/** The whole page, with what was read before it. */
import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { createRoot } from "react-dom/client";
import { cache } from "../api/queries";
import { App } from "./App";
import { known } from "./early";

export function mount() {
  if (known.stations) {
    cache.setQueryData([known.project, "stations"], known.stations);
  }
  createRoot(document.getElementById("root")!).render(
    <QueryClientProvider client={cache}>
      <Tooltip.Provider delayDuration={250}>
        <App />
      </Tooltip.Provider>
    </QueryClientProvider>,
  );
}
