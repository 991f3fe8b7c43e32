import { expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { read } from "../testing";
import { Attention } from "./Attention";

const run = "aa110000-0000-4000-8000-000000000000";
const key = JSON.stringify(["runs", "waiting"]);

it("says what waits for a person in all runs", () => {
  const waiting: Schemas["Waiting"][] = [
    { run, what: "proofs", shot: "stair-030", farm: "saltmarsh-ebb", job: run, frames: 40 },
    { run, what: "proposal" },
    { run, what: "stranded", shot: "coda-060", frames: 1, why: "punt is draining" },
  ];
  expect(read(<Attention />, { [key]: waiting })).toBe(
    "Waiting for you proof frames of stair-030 at saltmarsh-ebb a new schedule for run aa110000 1 frame of coda-060 that nobody is left to render",
  );
});

it("is not there where nothing waits, nor before that is known", () => {
  expect(read(<Attention />, { [key]: [] })).toBe("");
  expect(read(<Attention />)).toBe("");
});
