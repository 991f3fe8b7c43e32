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
    case "server":
      return [
        ["runs"],
        ...(e.run
          ? [
              ["runs", e.run],
              ["ledger", e.run],
            ]
          : []),
        ["hosts"],
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
      tries: f.tries + (failedTry ? 1 : 0),
      done: e.state === "done" ? e.at : undefined,
    };
  });
}

function apply(cache: QueryClient, events: Event[]) {
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

/** Follows the service's live updates for as long as the console is open. The
 * browser resumes a broken stream where it was, so nothing is missed. */
export function useLiveUpdates(signedIn: boolean) {
  const cache = useQueryClient();
  useEffect(() => {
    if (!signedIn) return;
    const stream = new EventSource("/api/v1/events");
    let gathered: Event[] = [];
    let timer: ReturnType<typeof setTimeout> | undefined;
    stream.onmessage = (message) => {
      gathered.push(JSON.parse(message.data));
      timer ??= setTimeout(() => {
        apply(cache, gathered);
        gathered = [];
        timer = undefined;
      }, 150);
    };
    return () => {
      stream.close();
      clearTimeout(timer);
    };
  }, [cache, signedIn]);
}
