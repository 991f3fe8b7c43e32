import { QueryClient } from "@tanstack/react-query";
import { expect, test } from "vitest";
import type { Schemas } from "./client";
import { apply, framesWhileHearing, staleKeys, withFrame } from "./events";

const at = "2031-03-07T18:00:00Z";
const frames: Schemas["Frame"][] = [
  { shot: "coda-060", frame: 1, state: "rendering", failures: 0, host: "eddy", crew: "g0" },
  { shot: "coda-060", frame: 2, state: "waiting", failures: 0 },
];

test("a frame's event changes that frame and no other", () => {
  const after = withFrame(frames, {
    kind: "frame",
    at,
    run: "r",
    shot: "coda-060",
    frame: 1,
    state: "done",
    host: "eddy",
    crew: "g0",
    seconds: 31,
  });
  expect(after?.[0]).toMatchObject({ state: "done", seconds: 31, failures: 0 });
  expect(after?.[1]).toBe(frames[1]);
});

test("a failed try counts, a lost agent does not", () => {
  const event = (cause: string) => ({
    kind: "frame" as const,
    at,
    shot: "coda-060",
    frame: 1,
    state: "waiting",
    cause,
  });
  expect(withFrame(frames, event("crashed"))?.[0]).toMatchObject({ state: "waiting", failures: 1, cause: "crashed" });
  expect(withFrame(frames, event("agent-lost"))?.[0].failures).toBe(0);
});

test("events make stale what shows them", () => {
  expect(staleKeys({ kind: "host", at })).toEqual([["hosts"]]);
  expect(staleKeys({ kind: "run", at, run: "r" })).toContainEqual(["runs", "r"]);
  expect(staleKeys({ kind: "frame", at, run: "r" })).toEqual([]);
});

test("what is heard while frames are fetched is not lost", async () => {
  const done = { kind: "frame" as const, at, shot: "coda-060", frame: 2, state: "done" };
  let answer = (_: Schemas["Frame"][]) => {};
  const fetched = framesWhileHearing("r", () => new Promise((resolve) => (answer = resolve)));
  apply(new QueryClient(), [
    { ...done, run: "r" },
    { ...done, run: "another", frame: 1 },
  ]);
  answer(frames);
  expect((await fetched).map((f) => f.state)).toEqual(["rendering", "done"]);
});

test("a failure that the list counts already is not counted again", () => {
  const failed = { kind: "frame" as const, at, shot: "coda-060", frame: 1, state: "waiting", cause: "crashed" };
  const once = withFrame(frames, failed);
  expect(withFrame(once, failed)?.[0].failures).toBe(1);
});
