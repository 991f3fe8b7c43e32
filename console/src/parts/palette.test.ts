import { expect, it } from "vitest";
import { colourAt } from "./palette";

it("has another colour for each of forty shots", () => {
  const all = Array.from({ length: 40 }, (_, i) => colourAt(i));
  expect(new Set(all).size).toBe(40);
  expect(colourAt(-1)).toBe(all[0]);
});
