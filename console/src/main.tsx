import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client";
import { App } from "./app/App";
import { keys } from "./api/keys";
import "./styles.css";

const client: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    // Whoever is signed out finds the way in again, wherever that shows first.
    onError: (e, query) => {
      if (e instanceof Problem && e.status === 401 && query.queryKey[0] !== "me")
        void client.invalidateQueries({ queryKey: keys.me() });
    },
  }),
  defaultOptions: {
    queries: {
      retry: (n, e) => n < 2 && !(e instanceof Problem && e.status >= 400 && e.status < 500),
      staleTime: 2_000,
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
