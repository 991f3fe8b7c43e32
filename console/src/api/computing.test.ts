import { expect, test, vi } from "vitest";
import { computingText, patientFetch } from "./computing";

const computation = {
  id: "84996235-6676-505f-bf54-fbb33990d8cc",
  kind: "plan" as const,
  about: "coda-060",
  asked_by: "ada",
  yours: true,
  state: "computing" as const,
  done: 3,
  parts: 12,
  doing: "planning for other finish times",
  created: "2031-03-07T18:00:00Z",
};

test("a request is sent again, as it was, until its answer is there", async () => {
  const answers = [
    new Response(JSON.stringify(computation), { status: 202 }),
    new Response(JSON.stringify(computation), { status: 202 }),
    new Response("{}", { status: 201 }),
  ];
  const bodies: string[] = [];
  const send = vi.fn(async (r: Request) => {
    bodies.push(`${r.headers.get("Idempotency-Key")} ${await r.text()}`);
    return answers.shift() as Response;
  });
  const request = new Request("http://rotanex.test/api/v1/plans", {
    method: "POST",
    body: "shots",
    headers: { "Idempotency-Key": "a key" },
  });
  const answer = await patientFetch(request, send);
  expect(answer.status).toBe(201);
  expect(bodies).toEqual(["a key shots", "a key shots", "a key shots"]);
  expect(send.mock.calls[0][0].headers.get("Prefer")).toBe("wait=2");
});

test("how far it is, in words", () => {
  expect(computingText(computation)).toBe("planning for other finish times, 3 of 12");
  expect(computingText({ ...computation, parts: 0 })).toBe("planning for other finish times");
  expect(computingText({ ...computation, state: "waiting" })).toBe("waiting for other computations");
  expect(computingText({ ...computation, doing: "" })).toBe("computing");
});
