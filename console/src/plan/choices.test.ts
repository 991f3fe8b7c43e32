import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { askedAgain, choicesText } from "./choices";

const plan = {
  currency: "EUR",
  shots: ["coda-060"],
  choices: {
    shots: ["coda-060"],
    goal: "fastest",
    budget: "250.00",
    rented: true,
    confidence: 0.9,
    without: ["tern"],
    pin: [{ shot: "coda-060", places: ["eddy"] }],
    not_before: "2031-03-07T18:00:00Z",
    assume: [{ what: "hours", name: "eddy" }],
    run: "84996235-6676-505f-bf54-fbb33990d8cc",
  },
} as Schemas["Plan"];

test("what was asked is asked again", () => {
  const by = "2031-03-08T09:00:00Z";
  const again = askedAgain(plan, by);
  expect(again).toMatchObject({
    by,
    goal: "fastest",
    budget: "250.00",
    confidence: 0.9,
    without: ["tern"],
    run: plan.choices?.run,
  });
  expect(again).not.toHaveProperty("assume");
  expect(again).not.toHaveProperty("not_before");
  expect(askedAgain(plan, by, { slack: 0.1 })).toMatchObject({ slack: 0.1 });
  expect(askedAgain(plan, by, { slack: 0.1 })).not.toHaveProperty("confidence");
  const keeps = { ...plan, choices: { ...plan.choices, contingency: "10.00" } } as Schemas["Plan"];
  expect(askedAgain(keeps, by)).toMatchObject({ contingency: "10.00" });
  expect(askedAgain(keeps, by, { contingency: "5" })).toMatchObject({ contingency: "5", confidence: 0.9 });
  expect(askedAgain(keeps, by, { contingency: "" })).not.toHaveProperty("contingency");
  expect(choicesText(keeps)).toContain("€10.00 kept for servers on the way");
});

test("choices in words", () => {
  expect(choicesText(plan)).toBe("the fastest for €250.00; 90 % sure; without tern; coda-060 only on eddy");
  expect(choicesText({ ...plan, choices: { shots: [], rented: false, goal: "cheapest" } })).toBe("owned machines only");
  expect(choicesText({ ...plan, choices: { shots: [], rented: true, keep_others: true } })).toBe(
    "around all other runs",
  );
});
