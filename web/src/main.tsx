import "@fontsource-variable/commissioner/wght.css";
import "./style.css";
import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { ApiProblem } from "./api/client";
import { sessionQuery } from "./api/queries";
import { App } from "./app/App";

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    // Signed out elsewhere, or barred: the sign-in is shown instead of what cannot be asked for any more.
    onError: (error, query) => {
      if (error instanceof ApiProblem && error.status === 401 && query.queryKey[0] !== sessionQuery.queryKey[0])
        void queries.invalidateQueries({ queryKey: sessionQuery.queryKey });
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 30_000,
      refetchOnWindowFocus: false,
      retry: (count, error) => count < 2 && !(error instanceof ApiProblem && error.status < 500),
    },
  },
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
