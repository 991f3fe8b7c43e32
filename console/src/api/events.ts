import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { type FrameMap, withFrame } from "../run/framemap";
import type { Schemas } from "./client";

type Event = Schemas["Event"];

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
              ["frames", e.run],
            ]
          : []),
        ["hosts"],
        ["sources"],
      ];
    default:
      return [];
  }
}

// What was heard while maps of frames were being fetched: their answers may be older.
const fetching = new Set<Event[]>();

/** Fetches how a run's frames are; what is heard meanwhile is put into the answer. */
export async function framesWhileHearing(run: string, fetch: () => Promise<FrameMap>): Promise<FrameMap> {
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
      cache.setQueryData<FrameMap>(["frames", e.run], (old) => withFrame(old, e));
      if (e.state === "failed") stale.set(`frames,${e.run}`, ["frames", e.run]); // why is in its list of causes
      if (e.state === "done" || e.state === "failed") stale.set("trials", ["trials"]);
    }
    for (const key of staleKeys(e)) stale.set(key.join(), key);
  }
  if (stale.size === 0) return;
  setTimeout(() => {
    for (const queryKey of stale.values()) cache.invalidateQueries({ queryKey });
  }, later);
}

/** How long after an event what it makes stale is fetched: the service shows a run for a moment, 250 ms, as it
 * was when somebody else looked. */
const later = 300;

/** What whoever holds the stream tells all open pages: an event, that the stream was opened,
 * or that it is open still. */
type Word = Event | "opened" | "open";

/** How often it is said that the stream is open; how long after the last word a page takes it
 * to be down, and looks for itself as often; and after how long one that the service refused
 * is opened again. */
const openEvery = 4_000;
const downAfter = 15_000;
const againAfter = 2_000;

let heardAt = 0;

/** How often something is asked for that live updates tell of too: while they come, only now and then. */
export const asked = (every: number) => () => (Date.now() - heardAt < downAfter ? Math.max(every, rarely) : every);

/** How often that is. */
const rarely = 30_000;

/** Holds the stream until it is told to end. The browser opens one that broke again and
 * resumes where it was; one that was refused it gives up, so that is opened anew here. */
function holdStream(say: (word: Word) => void, ended: AbortSignal): Promise<void> {
  return new Promise((release) => {
    let stream: EventSource;
    let again: ReturnType<typeof setTimeout> | undefined;
    const open = () => {
      stream = new EventSource("/api/v1/events");
      stream.onmessage = (message) => say(JSON.parse(message.data));
      stream.onopen = () => say("opened");
      stream.onerror = () => {
        if (stream.readyState === EventSource.CLOSED) again = setTimeout(open, againAfter);
      };
    };
    const beat = setInterval(() => stream.readyState === EventSource.OPEN && say("open"), openEvery);
    const end = () => {
      clearInterval(beat);
      clearTimeout(again);
      stream.close();
      release();
    };
    open();
    if (ended.aborted) end();
    else ended.addEventListener("abort", end);
  });
}

/** Hears the service's live updates. Browsers allow a host only a few connections,
 * so of all open pages one holds the stream and tells the others; when it goes, the
 * next takes over. What was shown before a stream was open is stale: nobody heard what
 * happened between its fetching and the opening. While nothing is heard of a stream
 * all is taken for stale now and then, so a page is never older than that. */
export function listen(tell: (e: Event) => void, stale: () => void): () => void {
  const others = new BroadcastChannel("rotanex-events");
  const ended = new AbortController();
  let heard = Date.now();
  const hear = (word: Word) => {
    heard = Date.now();
    heardAt = heard;
    if (word === "opened") stale();
    else if (word !== "open") tell(word);
  };
  others.onmessage = (message) => hear(message.data);
  const say = (word: Word) => {
    hear(word);
    others.postMessage(word);
  };
  const look = setInterval(() => {
    if (Date.now() - heard < downAfter) return;
    heard = Date.now();
    stale();
  }, openEvery);
  navigator.locks
    .request("rotanex-events", { signal: ended.signal }, () => holdStream(say, ended.signal))
    .catch(() => undefined); // ended while waiting
  return () => {
    clearInterval(look);
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
