import "@fontsource-variable/figtree";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./App";
import { get, type TakeInfo } from "./shared/api";

const client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity, refetchOnWindowFocus: false, retry: 1 } } });

// The take is asked for while the bench is still being fetched.
const take = /^\/take\/(\d+)$/.exec(location.pathname)?.[1];
if (take) {
  void client.prefetchQuery({ queryKey: ["take", Number(take)], queryFn: () => get<TakeInfo>(`/takes/${take}`) });
  void client.prefetchQuery({ queryKey: ["operations"], queryFn: () => get("/operations") });
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <App />
    </QueryClientProvider>
  </StrictMode>,
);
