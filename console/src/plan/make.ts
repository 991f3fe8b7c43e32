import { answered, client, newKey, type Schemas } from "../api/client";

/** Has shots planned. */
export const makePlan = (body: Schemas["NewPlan"]) =>
  answered(client.POST("/plans", { params: { header: { "Idempotency-Key": newKey() } }, body }));
