// What a component needs around it: the theme, a query cache, an address, the time; and a service that answers.
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactElement } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { vi } from "vitest";
import { system } from "../src/app/theme";
import { NowProvider } from "../src/parts/time";

function Address() {
  const { pathname, search } = useLocation();
  return <span data-testid="address">{pathname + search}</span>;
}

/** Renders an element as a page does; returns the query cache too. */
export function page(element: ReactElement, at = "/") {
  const cache = new QueryClient({ defaultOptions: { queries: { retry: false }, mutations: { retry: false } } });
  const shown = render(
    <ChakraProvider value={system}>
      <QueryClientProvider client={cache}>
        <MemoryRouter initialEntries={[at]}>
          <NowProvider>
            {element}
            <Address />
          </NowProvider>
        </MemoryRouter>
      </QueryClientProvider>
    </ChakraProvider>,
  );
  return { ...shown, cache };
}

export type Sent = { method: string; path: string; body: unknown; version?: string };

/** A service that answers every request with this status and body; returns what it was sent. */
export function service(status: number, body: unknown): Sent[] {
  const sent: Sent[] = [];
  vi.stubGlobal("fetch", async (url: string | URL | Request, init: RequestInit = {}) => {
    const path = new URL(String(url)).pathname;
    const sentBody = init.body ? JSON.parse(String(init.body)) : undefined;
    const version = new Headers(init.headers).get("if-match");
    sent.push({ method: init.method ?? "GET", path, body: sentBody, ...(version ? { version } : {}) });
    const type = status < 400 ? "application/json" : "application/problem+json";
    return new Response(status === 204 ? null : JSON.stringify(body), { status, headers: { "content-type": type } });
  });
  return sent;
}

/** A service that answers requests by "METHOD /path" below the API's address, and others with 404; returns what it was sent. */
export function answers(bodies: Record<string, unknown>): Sent[] {
  const sent: Sent[] = [];
  vi.stubGlobal("fetch", async (url: string | URL | Request, init: RequestInit = {}) => {
    const path = new URL(String(url)).pathname.replace(/^.*\/api\/v1/, "");
    const method = init.method ?? "GET";
    const version = new Headers(init.headers).get("if-match");
    const sentBody = init.body ? JSON.parse(String(init.body)) : undefined;
    if (method !== "GET") sent.push({ method, path, body: sentBody, ...(version ? { version } : {}) });
    const body = bodies[`${method} ${path}`];
    const status = body === undefined ? 404 : 200;
    return new Response(JSON.stringify(body === undefined ? { detail: `nothing at ${path}` } : body), { status });
  });
  return sent;
}
