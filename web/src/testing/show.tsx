import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactElement } from "react";
import { MemoryRouter } from "react-router";

/** Shows a part of the application at an address, with a query cache of its own, which comes back. */
export function show(part: ReactElement, path = "/"): QueryClient {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={queries}>
      <MemoryRouter initialEntries={[path]}>{part}</MemoryRouter>
    </QueryClientProvider>,
  );
  return queries;
}
