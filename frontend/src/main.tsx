import { QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { queries } from "./api/client";
import { standBy } from "./api/push";
import { App } from "./app/App";
import "./index.css";

standBy();
createRoot(document.getElementById("root") as HTMLElement).render(
  <QueryClientProvider client={queries}>
    <BrowserRouter>
      <App />
    </BrowserRouter>
  </QueryClientProvider>,
);
