import { expect, test } from "vitest";
import { roughly, sum } from "./format";

test("money is added up exactly and rounded once, half up", () => {
  expect(sum([])).toBe("0.00");
  expect(sum(["0.1", "0.2"])).toBe("0.30");
  expect(sum(Array(1000).fill("0.0049"))).toBe("4.90");
  expect(sum(["0.0025", "0.0025"])).toBe("0.01");
  expect(sum(["-0.40", "1.1051"])).toBe("0.71");
  expect(sum(["123456789012.33", "0.01"])).toBe("123456789012.34");
});

test("waits are known to the minute", () => {
  expect([20, 719, 720, 3599, 4021].map(roughly)).toEqual(["1 min", "12 min", "12 min", "1 h 00 min", "1 h 07 min"]);
  expect(roughly(0)).toBe("—");
  expect(roughly(undefined)).toBe("—");
});
