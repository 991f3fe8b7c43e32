import { useSyncExternalStore } from "react";
import type { components } from "./schema.gen";

// What the service computes for requests of this page that have no answer yet (202): how
// far it is, by the request's path. The request is sent again until its answer is there.

type Computation = components["schemas"]["Computation"];

const under = new Map<string, Computation>();
const hearers = new Set<() => void>();

function put(path: string, c?: Computation) {
  if (c) under.set(path, c);
  else if (!under.delete(path)) return;
  for (const hear of hearers) hear();
}

const pathOf = (url: string) => new URL(url, "http://x").pathname.replace("/api/v1", "");

/** fetch, that asks again while the answer is being computed. */
export async function patientFetch(
  request: Request,
  send: (r: Request) => Promise<Response> = fetch,
): Promise<Response> {
  const path = pathOf(request.url);
  try {
    for (;;) {
      const again = request.clone();
      again.headers.set("Prefer", "wait=2");
      const answer = await send(again);
      if (answer.status !== 202) return answer;
      put(path, await answer.json());
    }
  } finally {
    put(path);
  }
}

/** How far what is computed for a path is; nothing while nothing is. */
export const useComputing = (path: string) =>
  useSyncExternalStore(
    (hear) => {
      hearers.add(hear);
      return () => hearers.delete(hear);
    },
    () => under.get(path),
    () => undefined, // drawn without a browser, nothing is computed
  );

/** How far a computation is, in words. */
export function computingText(c: Computation): string {
  if (c.state === "waiting") return "waiting for other computations";
  if (!c.doing) return "computing";
  return c.parts ? `${c.doing}, ${c.done} of ${c.parts}` : c.doing;
}
