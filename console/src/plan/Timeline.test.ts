import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { rowsOf } from "./axis";

const booking = (place: string, crew: string, start: string, source?: string): Schemas["PlannedBooking"] => ({
  shot: "orrery-020",
  place,
  crew,
  source,
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
