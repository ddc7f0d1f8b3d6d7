import "@fontsource-variable/figtree";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App, Bench } from "./App";
import { CHUNK, posesAt } from "./bench/poses";
import { bodyAt, get, type TakeInfo } from "./shared/api";
import { drawnInSoftware } from "./shared/drawing";
import { ahead } from "./shared/early";

// Answers about a revision never change, but who has left one for a minute need not keep all that was told of it.
const client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity, gcTime: 60_000, refetchOnWindowFocus: false, retry: 1 } } });

// The take is asked for while the bench is still being fetched.
const take = /^\/take\/(\d+)$/.exec(location.pathname)?.[1];
if (take) {
  const queryKey = ["take", Number(take)];
  void client.prefetchQuery({ queryKey, queryFn: () => get<TakeInfo>(`/takes/${take}`) }).then(() => {
    // What the first picture needs comes while the bench is being laid out.
    const info = client.getQueryData<TakeInfo>(queryKey);
    if (!info) return;
    ahead(posesAt(info.id, info.first, Math.min(info.first + CHUNK - 1, info.last), "revision", info.revision));
    for (const member of info.members) if (member.kind === "character" && member.shapes.length > 0) ahead(bodyAt(info.id, member.id));
  });
  // Asked now, while the take is on its way.
  drawnInSoftware();
  void client.prefetchQuery({ queryKey: ["operations"], queryFn: () => get("/operations") });
}

const show = () =>
  createRoot(document.getElementById("root")!).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <App />
      </QueryClientProvider>
    </StrictMode>,
  );
// A bench that is all but here is waited for: words in its place would stay longer than that takes.
if (take) void Promise.race([Bench.come(), new Promise((done) => setTimeout(done, 300))]).finally(show);
else show();
