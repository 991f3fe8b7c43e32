import { expect, test } from "vitest";
import { run } from "../testing";
import { counted, indexOf, lettersOf, most, numbersOf, readMap, wholeOf, withFrame } from "./framemap";

const at = "2031-03-07T18:00:00Z";
const map = readMap({
  shots: [{ shot: "coda-060", frames: "1-9x2,20", states: "2d1r3w" }],
  failed: [],
  marked: [],
  latest: [{ shot: "coda-060", frame: 3, state: "done", failures: 0 }],
});

test("a set of frames is read as the service writes it", () => {
  expect(numbersOf("1-5,9")).toEqual([1, 2, 3, 4, 5, 9]);
  expect(numbersOf("-3--1,7")).toEqual([-3, -2, -1, 7]);
  expect(map.shots[0].numbers).toEqual([1, 3, 5, 7, 9, 20]);
  expect(map.shots[0].states).toBe("ddrwww");
  expect(lettersOf("")).toBe("");
  expect(indexOf(map.shots[0], 20)).toBe(5);
  expect(indexOf(map.shots[0], 4)).toBe(-1);
});

test("an event changes its frame and no other", () => {
  const event = { kind: "frame" as const, at, run: "r", shot: "coda-060", frame: 5, state: "done", host: "eddy" };
  const after = withFrame(map, event);
  expect(after?.shots[0].states).toBe("dddwww");
  expect(after?.latest.map((f) => f.frame)).toEqual([5, 3]);
  expect(map.shots[0].states).toBe("ddrwww");
  expect(withFrame(after, event)).toBe(after); // told again, nothing is drawn again
  const ahead = { ...map, latest: after?.latest ?? [] }; // its pictures were read after its states
  expect(withFrame(ahead, event)?.latest.map((f) => f.frame)).toEqual([5, 3]);
  expect(withFrame(map, { ...event, frame: 6 })).toBe(map);
  expect(withFrame(map, { ...event, shot: "another" })).toBe(map);
  expect(withFrame(undefined, event)).toBeUndefined();
  expect(withFrame(map, { ...event, state: "failed" })?.shots[0].states).toBe("ddfwww");
});

test("of several frames one that failed is seen whatever the others are", () => {
  expect(most("ddfdd", 0, 5)).toBe("f");
  expect(most("dwr", 0, 3)).toBe("r");
  expect(most("ddw", 0, 2)).toBe("d");
  expect(most("ddw", 0, 3)).toBe("p");
  expect(most("www", 0, 3)).toBe("w");
});

test("a frame is done when all of its passes are", () => {
  const pass = (states: string) => ({ shot: "stair-030", numbers: [1, 2, 3, 4], states });
  expect(wholeOf([pass("dddw"), pass("ddrd"), pass("dfdd")])).toEqual({ done: 1, frames: 4 });
  expect(wholeOf([])).toEqual({ done: 0, frames: 0 });
});

test("a run counts its frames as the map has them, and what did not change stays the same", () => {
  const none = { waiting: 0, rendering: 0, done: 0, failed: 0 };
  const shot = { shot: "coda-060", title: "", frames: "1-9x2,20", width: 1, height: 1, counts: none };
  const two = { ...map, shots: [...map.shots, { shot: "lamp-040", numbers: [1, 2], states: "wf" }] };
  const r = run({
    shots: [shot, { ...shot, shot: "lamp-040" }, { ...shot, shot: "no-map", counts: { ...none, done: 5 } }],
  });
  const before = counted(r, two);
  expect(before.counts).toEqual({ waiting: 4, rendering: 1, done: 7, failed: 1 });
  const event = { kind: "frame" as const, at, run: "r", shot: "lamp-040", frame: 1, state: "rendering" };
  const after = counted(r, withFrame(two, event));
  expect(after.shots[0]).toBe(before.shots[0]);
  expect(after.shots[1].counts).toEqual({ waiting: 0, rendering: 1, done: 0, failed: 1 });
  expect(counted(r, undefined)).toBe(r);
});
