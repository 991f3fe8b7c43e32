import { expect, test } from "vitest";
import { bytes, count, drift, length, money, tick } from "./format";

test("lengths of time carry their unit", () => {
  expect([0.841, 72.46, 250, 3600, 11119].map(length)).toEqual([
    "0.84 s",
    "72.5 s",
    "4 min 10 s",
    "1 h 00 min",
    "3 h 05 min",
  ]);
  expect(length(0)).toBe("—");
  expect(length(undefined)).toBe("—");
});

test("money is shown as it came, not rounded by the browser", () => {
  expect(money("EUR", "184.2").replace(/[^\d.,]/g, "")).toBe("184.20");
  expect(money("EUR", "0.0149").replace(/[^\d.,]/g, "")).toBe("0.0149");
  expect(money("EUR", "")).toBe("—");
});

test("drift says which way", () => {
  expect(drift("2031-03-07T20:12:00Z", "2031-03-07T20:00:00Z")).toEqual({ text: "12 min 00 s late", late: true });
  expect(drift("2031-03-07T18:55:00Z", "2031-03-07T20:00:00Z")).toEqual({ text: "1 h 05 min early", late: false });
  expect(drift("2031-03-07T20:00:20Z", "2031-03-07T20:00:00Z").text).toBe("on time");
});

test("ticks of an axis are told from each other", () => {
  const from = (step: number) => Array.from({ length: 6 }, (_, i) => new Date(Date.UTC(2031, 2, 7, 8, 38) + i * step));
  for (const step of [5_000, 60_000, 600_000, 6 * 3_600_000]) {
    const all = from(step);
    expect(new Set(all.map((t) => tick(t, all))).size, `${step} ms`).toBe(6);
  }
  expect(tick(new Date(Date.UTC(2031, 2, 7)), [])).toMatch(/^\d\d:\d\d$/);
});

test("counts and sizes", () => {
  expect(count(1, "frame")).toBe("1 frame");
  expect(count(2, "frame")).toBe("2 frames");
  expect([0, 104, 61_000, 8_000_000, 2.44e10].map(bytes)).toEqual(["—", "104 B", "61 kB", "8 MB", "24.4 GB"]);
});
