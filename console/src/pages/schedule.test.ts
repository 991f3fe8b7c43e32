import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { crewsOf, endOf } from "./Schedule";

const booking = (place: string, crew: string, end: string): Schemas["ScheduledBooking"] => ({
  run: "7f1f3f0e-0000-4000-8000-000000000000",
  shot: "coda-060",
  place,
  crew,
  frames: 3,
  start: "2031-03-07T18:00:00Z",
  end,
  rendering: false,
});

test("work is gathered by crew, in its order", () => {
  const all = [booking("dory", "cpu", "a"), booking("dory", "cpu", "b"), booking("eddy", "g0", "c")];
  expect(crewsOf(all).map((c) => [c.place, c.crew, c.bookings.map((b) => b.end).join()])).toEqual([
    ["dory", "cpu", "a,b"],
    ["eddy", "g0", "c"],
  ]);
});

test("the axis ends a little after the last that happens, and is never empty", () => {
  const now = "2031-03-07T18:00:00Z";
  expect(endOf(now, [booking("dory", "cpu", "2031-03-07T19:40:00Z")], []).toISOString()).toBe(
    "2031-03-07T19:44:00.000Z",
  );
  expect(endOf(now, [], []).getTime()).toBeGreaterThan(Date.parse(now) + 10 * 60_000);
});
