import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import "../styles.css";
import "./portal.css";
import { BEGINS } from "../api/begins";
import { App } from "./app";

const queries = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: 2000 } } });

createRoot(document.getElementById("root") as HTMLElement).render(
  <QueryClientProvider client={queries}>
    {/* What is typed into the address is drawn before the next key, and not when there is time. */}
    <BrowserRouter basename={BEGINS || "/"} useTransitions={false}>
      <App />
    </BrowserRouter>
  </QueryClientProvider>,
);
