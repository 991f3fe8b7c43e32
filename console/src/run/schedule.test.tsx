import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { read, run } from "../testing";
import { Deadline } from "./Deadline";
import { Changes, movesText, Policy, Proposals } from "./Schedule";

type Change = Schemas["ScheduleChange"];

const one = run({});
const change = (more: Partial<Change>): Change => ({
  id: "dd440000-0000-4000-8000-000000000000",
  run: one.id,
  at: "2031-03-07T19:10:00Z",
  state: "proposed",
  cause: "eddy is lost",
  gain: "95 % to be in time instead of 30 %",
  decided_by: "Rotanex",
  plan: "cc440000-0000-4000-8000-000000000000",
  chance_before: 0.3,
  chance_after: 0.95,
  finish_after: "2031-03-07T20:30:00Z",
  currency: "EUR",
  cost_before: "1.20",
  cost_after: "5.30",
  more: "4.10",
  moved: 12,
  frames: 60,
  moves: [
    { shot: "coda-060", place: "eddy", crew: "g0", frames: -12 },
    { shot: "coda-060", place: "bellows", crew: "g0+g1", frames: 9 },
    { shot: "coda-060", place: "ebb", frames: 3 },
  ],
  ...more,
});

const answers = (role: string, ...changes: Change[]) => ({
  [JSON.stringify(["session"])]: { name: "mara", role },
  [JSON.stringify(["runs", one.id, "changes"])]: changes,
});

describe("a proposal", () => {
  it("says what it brings, what it takes beyond the cap, and why", () => {
    const text = read(<Proposals run={one} />, answers("operator", change({}), change({ id: "2", state: "declined" })));
    expect(text.match(/A new schedule is proposed/g)).toHaveLength(1);
    expect(text).toMatch(/95 % to be in time instead of 30 % for \D+4\.10 more than the run may cost/);
    expect(text).toContain("12 frames of 60 would move");
    expect(text).toMatch(/5\.30 instead of \D+1\.20/);
    expect(text).toContain("Why: eddy is lost");
    expect(text).toMatch(/Accept, and allow \D+4\.10 more/);
    expect(text).toContain("Decline");
  });

  it("is a plain button where it takes no more money", () => {
    const text = read(<Proposals run={one} />, answers("operator", change({ more: "0.00" })));
    expect(text).toContain("Accept Decline");
    expect(text).not.toContain("more than the run may cost");
  });

  it("is shown to who may only look, without the buttons, and to nobody once the run is over", () => {
    const text = read(<Proposals run={one} />, answers("viewer", change({})));
    expect(text).toContain("95 % to be in time");
    expect(text).not.toContain("Accept");
    expect(read(<Proposals run={run({ state: "complete" })} />, answers("operator", change({})))).toBe("");
  });
});

describe("what was planned anew", () => {
  const made = change({ id: "3", state: "made", more: "0.00" });

  it("can be undone, the last change alone", () => {
    const older = change({ id: "4", state: "made", gain: "it ends 20 min earlier", more: "0.00" });
    const text = read(<Changes run={one} />, answers("operator", made, older));
    expect(text.match(/Undo/g)).toHaveLength(1);
    expect(text).toContain("12 of 60 frames moved");
    expect(text).toContain("it ends 20 min earlier");
    expect(text).toContain("by Rotanex");
    expect(text).toContain("eddy g0 −12, bellows g0+g1 +9, ebb +3");
  });

  it("adds up what a crew has of several shots, and names the most of many", () => {
    const of = (place: string, frames: number, shot = "coda-060") => ({ shot, place, crew: "g0", frames });
    expect(movesText([of("eddy", -12), of("eddy", 12, "stair-030"), of("dory", 3)])).toBe("dory g0 +3");
    expect(movesText([of("eddy", -9), of("dory", 5), of("tern", 4)], 2)).toBe("eddy g0 −9, dory g0 +5 and 1 more");
    expect(movesText([])).toBe("");
  });

  it("cannot be undone by who may only look, nor after the run", () => {
    expect(read(<Changes run={one} />, answers("viewer", made))).not.toContain("Undo");
    const over = read(<Changes run={run({ state: "complete" })} />, answers("operator", made));
    expect(over).toContain("95 % to be in time");
    expect(over).not.toContain("Undo");
  });

  it("is not there where nothing was", () => {
    expect(read(<Changes run={one} />, answers("operator"))).toBe("");
  });
});

describe("the deadline", () => {
  it("may be moved by who may write, while the run is open and has one", () => {
    const due = run({ deadline: "2031-03-07T21:00:00Z" });
    expect(read(<Deadline run={due} />, answers("operator"))).toContain("Deadline");
    expect(read(<Deadline run={due} />, answers("viewer"))).toBe("");
    expect(read(<Deadline run={run({ deadline: undefined })} />, answers("operator"))).toBe("");
    expect(read(<Deadline run={{ ...due, state: "complete" }} />, answers("operator"))).toBe("");
  });
});

describe("the policy", () => {
  it("is a choice for who may write, a word for others, and nothing once the run is over", () => {
    expect(read(<Policy run={one} />, answers("operator"))).toMatch(/auto.*ask.*off/);
    expect(read(<Policy run={run({ policy: "ask" })} />, answers("viewer"))).toBe("Planned anew: ask");
    expect(read(<Policy run={run({ state: "cancelled" })} />, answers("operator"))).toBe("");
  });
});
