import type { Schemas } from "../api/client";
import { money } from "../parts/format";

type Plan = Schemas["Plan"];

/** What was fixed by whoever asked for a plan, in words; nothing where nothing was. */
export function choicesText(plan: Plan): string {
  const c = plan.choices;
  if (!c) return "";
  const parts: string[] = [];
  if (c.goal === "fastest") parts.push(`the fastest for ${money(plan.currency, c.budget)}`);
  else if (c.budget) parts.push(`at most ${money(plan.currency, c.budget)}`);
  if (c.rented === false) parts.push("owned machines only");
  if (c.keep_others) parts.push("around all other runs");
  if (c.confidence) parts.push(`${Math.round(100 * c.confidence)} % sure`);
  if (c.contingency)
    parts.push(
      `${money(plan.currency, c.contingency)} kept for servers on the way, let as late as the deadlines allow`,
    );
  if (c.without?.length) parts.push(`without ${c.without.join(", ")}`);
  for (const p of c.pin ?? []) parts.push(`${p.shot} only on ${p.places.join(", ")}`);
  return parts.join("; ");
}

/** The request that asks for a plan again, with what it was asked with, by another time.
 * A time before which nothing starts, and what was assumed, are not of it. */
export function askedAgain(
  plan: Plan,
  by: string | undefined,
  change: { slack?: number; confidence?: number; contingency?: string } = {},
): Schemas["NewPlan"] {
  const c = plan.choices ?? { shots: plan.shots };
  const { not_before, assume, slack, confidence, contingency, ...kept } = c;
  const onTheWay = "contingency" in change ? change.contingency : contingency;
  const spare = "slack" in change || "confidence" in change ? change : { slack, confidence };
  return {
    ...kept,
    goal: kept.goal ?? "cheapest",
    rented: kept.rented ?? true,
    by,
    ...(onTheWay ? { contingency: onTheWay } : {}),
    ...(spare.slack ? { slack: spare.slack } : {}),
    ...(spare.confidence ? { confidence: spare.confidence } : {}),
  };
}
