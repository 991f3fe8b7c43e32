import { expect, test } from "vitest";
import { playedTo, wantedFrom } from "./reel";

test("pictures are wanted from the one that is looked at on", () => {
  expect(wantedFrom(2, 4)).toEqual([2, 3, 0, 1]);
  expect(wantedFrom(2, 4, 3)).toEqual([2, 3, 0]);
  expect(wantedFrom(0, 0)).toEqual([]);
});

test("a shot plays at its rate, over and over", () => {
  expect(playedTo(0, 0.99, 24, 100)).toBe(23);
  expect(playedTo(0, 1, 24, 100)).toBe(24);
  expect(playedTo(90, 1, 24, 100)).toBe(14);
  expect(playedTo(3, 9, 24, 0)).toBe(0);
});
