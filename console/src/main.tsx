import { ChakraProvider } from "@chakra-ui/react";
import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client";
import { App } from "./app/App";
import { applyTheme, system } from "./app/theme";
import { NowProvider, learnTime } from "./parts/time";

applyTheme();

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 1000,
      // The service may be restarting: keep trying, but not what it refused.
      retry: (count, error) => error instanceof Problem && (error.status === 0 || error.status >= 500) && count < 4,
    },
  },
  queryCache: new QueryCache({
    onSuccess: (data) => {
      if (typeof data === "object" && data && "now" in data && typeof data.now === "string") learnTime(data.now);
    },
    onError: (error, query) => {
      // Signed out meanwhile: ask who is signed in, unless that is what was refused.
      if (error instanceof Problem && error.status === 401 && query.queryKey[0] !== "who") {
        void queries.invalidateQueries({ queryKey: ["who"] });
      }
    },
  }),
});

const base = new URL(document.baseURI).pathname.replace(/\/$/, "");
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ChakraProvider value={system}>
        <QueryClientProvider client={queries}>
          <BrowserRouter basename={base}>
            <NowProvider>
              <App />
            </NowProvider>
          </BrowserRouter>
        </QueryClientProvider>
      </ChakraProvider>
    </StrictMode>,
  );
}
