import { QueryClient } from "@tanstack/react-query";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { type FrameMap, readMap } from "../run/framemap";
import { apply, framesWhileHearing, listen, staleKeys } from "./events";

const at = "2031-03-07T18:00:00Z";
const frames = readMap({
  shots: [{ shot: "coda-060", frames: "1-2", states: "1r1w" }],
  failed: [],
  marked: [],
  latest: [],
});

test("events make stale what shows them", () => {
  expect(staleKeys({ kind: "host", at })).toEqual([["hosts"]]);
  expect(staleKeys({ kind: "run", at, run: "r" })).toContainEqual(["runs", "r"]);
  expect(staleKeys({ kind: "frame", at, run: "r" })).toEqual([]);
});

test("what is heard while frames are fetched is not lost", async () => {
  const done = { kind: "frame" as const, at, shot: "coda-060", frame: 2, state: "done" };
  let answer = (_: FrameMap) => {};
  const fetched = framesWhileHearing("r", () => new Promise((resolve) => (answer = resolve)));
  apply(new QueryClient(), [
    { ...done, run: "r" },
    { ...done, run: "another", frame: 1 },
  ]);
  answer(frames);
  expect((await fetched).shots[0].states).toBe("rd");
});

class FakeStream {
  static CLOSED = 2;
  static OPEN = 1;
  static all: FakeStream[] = [];
  readyState = 0;
  onmessage?: (m: { data: string }) => void;
  onopen?: () => void;
  onerror?: () => void;
  constructor(readonly url: string) {
    FakeStream.all.push(this);
  }
  open() {
    this.readyState = FakeStream.OPEN;
    this.onopen?.();
  }
  refused() {
    this.readyState = FakeStream.CLOSED;
    this.onerror?.();
  }
  close() {
    this.readyState = FakeStream.CLOSED;
  }
}

describe("a page that listens", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    FakeStream.all = [];
    vi.stubGlobal("EventSource", FakeStream);
    vi.stubGlobal(
      "BroadcastChannel",
      class {
        postMessage() {}
        close() {}
      },
    );
    vi.stubGlobal("navigator", {
      locks: { request: async (_: string, __: object, hold: () => Promise<void>) => hold() },
    });
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  test("takes for stale what was shown before the stream was open, and tells what comes", () => {
    const tell = vi.fn();
    const stale = vi.fn();
    const stop = listen(tell, stale);
    const [stream] = FakeStream.all;
    expect(stale).not.toHaveBeenCalled();
    stream.open();
    expect(stale).toHaveBeenCalledTimes(1);
    stream.onmessage?.({ data: JSON.stringify({ kind: "host", at }) });
    expect(tell).toHaveBeenCalledWith({ kind: "host", at });
    vi.advanceTimersByTime(120_000);
    expect(stale).toHaveBeenCalledTimes(1); // the stream is open: nothing is looked for
    stop();
    expect(stream.readyState).toBe(FakeStream.CLOSED);
  });

  test("opens a stream that was refused again", () => {
    const stop = listen(vi.fn(), vi.fn());
    FakeStream.all[0].refused();
    vi.advanceTimersByTime(2_000);
    expect(FakeStream.all).toHaveLength(2);
    stop();
    vi.advanceTimersByTime(60_000);
    expect(FakeStream.all).toHaveLength(2);
  });

  test("looks for itself while nobody hears the service", () => {
    const stale = vi.fn();
    const stop = listen(vi.fn(), stale);
    vi.advanceTimersByTime(60_000);
    expect(stale.mock.calls.length).toBeGreaterThan(2);
    stop();
    const before = stale.mock.calls.length;
    vi.advanceTimersByTime(60_000);
    expect(stale).toHaveBeenCalledTimes(before);
  });
});
