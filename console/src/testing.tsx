import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { renderToStaticMarkup } from "react-dom/server";
import { MemoryRouter } from "react-router";
import type { Schemas } from "./api/client";
import { system } from "./theme";

/** What a person reads of something drawn, for tests: its text, one space between pieces.
 * What the service would answer is given by query key, as JSON. */
export function read(node: ReactNode, answers: Record<string, unknown> = {}) {
  const cache = new QueryClient();
  for (const [key, data] of Object.entries(answers)) cache.setQueryData(JSON.parse(key), data);
  const page = renderToStaticMarkup(
    <ChakraProvider value={system}>
      <QueryClientProvider client={cache}>
        <MemoryRouter>{node}</MemoryRouter>
      </QueryClientProvider>
    </ChakraProvider>,
  );
  return page
    .replace(/<style[\s\S]*?<\/style>/g, "")
    .replace(/<[^>]*>/g, " ")
    .replace(/&#x27;/g, "'")
    .replace(/\s+/g, " ")
    .trim();
}

/** A run that goes on, for tests. */
export const run = (more: Partial<Schemas["Run"]>): Schemas["Run"] => ({
  id: "aa110000-0000-4000-8000-000000000000",
  plan: "cc330000-0000-4000-8000-000000000000",
  state: "running",
  priority: "normal",
  policy: "auto",
  created: "2031-03-07T18:00:00Z",
  shots: [],
  counts: { waiting: 7, rendering: 1, done: 30, failed: 0 },
  planned_finish: "2031-03-07T20:00:00Z",
  crews: [],
  servers: [],
  currency: "EUR",
  cost_so_far: "1.20",
  planned_cost: "2.40",
  frames_hour: 40,
  planned_frames_hour: 44,
  ...more,
});
