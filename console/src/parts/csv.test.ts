import { expect, it } from "vitest";
import { csvOf, order } from "./csv";

it("writes rows that a spreadsheet reads, and no formula", () => {
  expect(
    csvOf([
      ["Shot", "Frames", "Note"],
      ["stair-030", 240, 'a "spiral", of stone'],
      ["=1+2", -3.5, undefined],
      ["-4.5", 0, "two\nlines"],
    ]),
  ).toBe('Shot,Frames,Note\r\nstair-030,240,"a ""spiral"", of stone"\r\n\'=1+2,-3.5,\r\n-4.5,0,"two\nlines"\r\n');
});

it("orders amounts by their size, and names as people do", () => {
  expect(["10.5", "9.20", "0.0057", "0.45", "0.5"].sort(order)).toEqual(["0.0057", "0.45", "0.5", "9.20", "10.5"]);
  expect(["stair-100", "stair-30", "coda-060"].sort(order)).toEqual(["coda-060", "stair-30", "stair-100"]);
  expect([3, 20, 1].sort(order)).toEqual([1, 3, 20]);
});
