import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { chance } from "../parts/format";
import { axisEnd, rowsOf, shut } from "./axis";

const booking = (place: string, crew: string, start: string, source = "wharf"): Schemas["PlannedBooking"] => ({
  shot: "orrery-020",
  place,
  crew,
  source,
  owned: source !== "tern",
  frames: 10,
  start,
  end: start,
  frame_s: 60,
  basis: "measured",
});

const plan = {
  bookings: [
    booking("tern-solo#1", "g0", "2031-03-07T18:12:00Z", "tern"),
    booking("eddy", "g1", "2031-03-07T18:00:00Z"),
    booking("eddy", "g0", "2031-03-07T18:00:00Z"),
    booking("eddy", "g0", "2031-03-08T07:00:00Z"),
  ],
  servers: [
    {
      id: "tern-solo#1",
      offer: "tern-solo",
      source: "tern",
      from: "2031-03-07T18:00:00Z",
      usable: "2031-03-07T18:12:00Z",
      to: "2031-03-07T19:00:00Z",
      billed_s: 3600,
      cost: "1.35",
    },
  ],
} as unknown as Schemas["Plan"];

test("a row for each crew, owned ones first, with all that it does", () => {
  const rows = rowsOf(plan);
  expect(rows.map((r) => `${r.place}/${r.crew}`)).toEqual(["eddy/g0", "eddy/g1", "tern-solo#1/g0"]);
  expect(rows[0].bookings).toHaveLength(2);
});

test("a server's row knows what is paid for", () => {
  expect(rowsOf(plan)[2].server?.billed_s).toBe(3600);
  expect(rowsOf(plan)[0].server).toBeUndefined();
});

test("a plan without bookings has no rows", () => {
  expect(rowsOf({ ...plan, bookings: undefined })).toEqual([]);
});

test("a host is shut between its windows, and until the end of the axis after the last", () => {
  const weekend = {
    start: "2031-03-07T18:00:00Z",
    hours: [
      {
        host: "desk-ada",
        windows: [
          { from: "2031-03-07T19:00:00Z", to: "2031-03-08T08:00:00Z" },
          { from: "2031-03-08T20:00:00Z", to: "2031-03-08T22:00:00Z" },
        ],
      },
    ],
  } as Schemas["Plan"];
  const end = new Date("2031-03-09T00:00:00Z");
  expect(shut(weekend, "desk-ada", end).map((c) => [c.from.toISOString(), c.to.toISOString()])).toEqual([
    ["2031-03-07T18:00:00.000Z", "2031-03-07T19:00:00.000Z"],
    ["2031-03-08T08:00:00.000Z", "2031-03-08T20:00:00.000Z"],
    ["2031-03-08T22:00:00.000Z", "2031-03-09T00:00:00.000Z"],
  ]);
  expect(shut(weekend, "eddy", end)).toEqual([]);
});

test("the axis reaches past whatever happens last", () => {
  const ends = { start: "2031-03-07T18:00:00Z", finish: "2031-03-07T20:00:00Z", deadline: "2031-03-07T23:00:00Z" };
  expect(+axisEnd(ends as Schemas["Plan"])).toBeGreaterThan(Date.parse("2031-03-07T23:00:00Z"));
});

test("a chance is never rounded to a certainty that it is not", () => {
  expect([0, 0.004, 0.918, 0.999, 1].map(chance)).toEqual(["0 %", "under 1 %", "92 %", "over 99 %", "over 99 %"]);
});
