import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Schemas } from "./client";

type Event = Schemas["Event"];
type Frame = Schemas["Frame"];

/** Which queries an event makes stale. */
export function staleKeys(e: Event): string[][] {
  switch (e.kind) {
    case "host":
      return [["hosts"]];
    case "shot":
      return [["shots"]];
    case "plan":
      return [["plans"]];
    case "trial":
      return [["trials"]];
    case "run":
    case "farm":
    case "money":
    case "server":
      return [
        ["runs"],
        ...(e.run
          ? [
              ["runs", e.run],
              ["ledger", e.run],
              ["entries", e.run],
            ]
          : []),
        ["hosts"],
        ["sources"],
      ];
    default:
      return [];
  }
}

/** Puts what an event says of a frame into the list of frames that is shown. */
export function withFrame(frames: Frame[] | undefined, e: Event): Frame[] | undefined {
  if (!frames || e.kind !== "frame") return frames;
  return frames.map((f) => {
    if (f.shot !== e.shot || f.frame !== e.frame) return f;
    const failedTry = (e.state === "waiting" || e.state === "failed") && !!e.cause && e.cause !== "agent-lost";
    return {
      ...f,
      state: e.state as Frame["state"],
      host: e.host,
      crew: e.crew,
      cause: e.cause ?? f.cause,
      seconds: e.seconds,
      // A row that is there already was read after what the event tells of.
      failures: f.failures + (failedTry && f.state !== e.state ? 1 : 0),
      done: e.state === "done" ? e.at : undefined,
    };
  });
}

// What was heard while lists of frames were being fetched: their answers may be older.
const fetching = new Set<Event[]>();

/** Fetches a run's frames; what is heard meanwhile is put into the answer. */
export async function framesWhileHearing(run: string, fetch: () => Promise<Frame[]>): Promise<Frame[]> {
  const heard: Event[] = [];
  fetching.add(heard);
  try {
    const frames = await fetch();
    return heard.filter((e) => e.run === run).reduce((all, e) => withFrame(all, e) ?? all, frames);
  } finally {
    fetching.delete(heard);
  }
}

export function apply(cache: QueryClient, events: Event[]) {
  for (const heard of fetching) heard.push(...events);
  const stale = new Map<string, string[]>();
  for (const e of events) {
    if (e.kind === "frame" && e.run) {
      cache.setQueryData<Frame[]>(["frames", e.run], (old) => withFrame(old, e));
      if (e.state === "done" || e.state === "failed") stale.set("trials", ["trials"]);
    }
    for (const key of staleKeys(e)) stale.set(key.join(), key);
  }
  for (const queryKey of stale.values()) cache.invalidateQueries({ queryKey });
}

/** Hears the service's live updates. Browsers allow a host only a few connections,
 * so of all open pages one holds the stream and tells the others; when it goes, the
 * next takes over. What was shown before a stream was open is stale: nobody heard what
 * happened between its fetching and the opening. */
function listen(tell: (e: Event) => void, opened: () => void): () => void {
  const others = new BroadcastChannel("rotanex-events");
  const ended = new AbortController();
  others.onmessage = (message) => (message.data === "opened" ? opened() : tell(message.data));
  const hold = () =>
    new Promise<void>((release) => {
      const stream = new EventSource("/api/v1/events");
      stream.onmessage = (message) => {
        const e: Event = JSON.parse(message.data);
        tell(e);
        others.postMessage(e);
      };
      stream.onopen = () => {
        opened();
        others.postMessage("opened");
      };
      ended.signal.addEventListener("abort", () => {
        stream.close();
        release();
      });
    });
  navigator.locks.request("rotanex-events", { signal: ended.signal }, hold).catch(() => undefined); // ended while waiting
  return () => {
    ended.abort();
    others.close();
  };
}

/** Follows live updates for as long as the page is open. */
export function useLiveUpdates(signedIn: boolean) {
  const cache = useQueryClient();
  useEffect(() => {
    if (!signedIn) return;
    let gathered: Event[] = [];
    let timer: ReturnType<typeof setTimeout> | undefined;
    const tell = (e: Event) => {
      gathered.push(e);
      timer ??= setTimeout(() => {
        apply(cache, gathered);
        gathered = [];
        timer = undefined;
      }, 150);
    };
    const stop = listen(tell, () =>
      cache.invalidateQueries({ refetchType: "active", predicate: (q) => q.queryKey[0] !== "session" }),
    );
    // A page that the browser keeps for the way back lets go of the stream, and
    // begins anew when it is shown again.
    const again = (shown: PageTransitionEvent) => shown.persisted && location.reload();
    window.addEventListener("pagehide", stop);
    window.addEventListener("pageshow", again);
    return () => {
      window.removeEventListener("pagehide", stop);
      window.removeEventListener("pageshow", again);
      stop();
      clearTimeout(timer);
    };
  }, [cache, signedIn]);
}
