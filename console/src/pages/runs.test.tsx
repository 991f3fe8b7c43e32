import { describe, expect, it } from "vitest";
import { read, run } from "../testing";
import { Progress, Runs, totalOf } from "./Runs";

const runs = JSON.stringify(["runs"]);
const shot = (name: string) => ({
  shot: name,
  frames: "1-38",
  width: 480,
  height: 270,
  counts: { waiting: 7, rendering: 1, done: 30, failed: 0 },
});

describe("the list of runs", () => {
  it("says how to begin where there is none", () => {
    expect(read(<Runs />, { [runs]: [] })).toContain("No run yet");
  });

  it("has what is due and the backlog apart", () => {
    const text = read(<Runs />, {
      [runs]: [
        run({ id: "1", priority: "urgent", deadline: "2031-03-07T21:00:00Z", shots: [shot("storm-050")] }),
        run({ id: "2", priority: "backlog", shots: [shot("lamp-040")], state: "complete" }),
      ],
    });
    const [due, backlog] = text.split(/(?=Backlog no deadline)/);
    expect(due).toContain("storm-050");
    expect(due).toContain("urgent");
    expect(due).toContain("Deadline");
    expect(due).not.toContain("lamp-040");
    expect(backlog).toContain("lamp-040");
    expect(backlog).toContain("complete");
    expect(backlog).not.toContain("Deadline");
  });

  it("has no empty table for either", () => {
    const one = run({ id: "2", priority: "backlog", shots: [shot("lamp-040")] });
    expect(read(<Runs />, { [runs]: [one] }).match(/Frames done/g)).toHaveLength(1);
    const due = read(<Runs />, { [runs]: [run({ shots: [shot("storm-050")] })] });
    expect(due).not.toContain("Backlog");
    expect(due).not.toContain("normal");
  });
});

describe("how much of a run is done", () => {
  it("is said in numbers, failures with it", () => {
    const counts = { waiting: 7, rendering: 1, done: 30, failed: 2 };
    expect(totalOf(counts)).toBe(40);
    expect(read(<Progress counts={counts} />)).toBe("30 of 40 , 2 failed");
    expect(read(<Progress counts={{ waiting: 0, rendering: 0, done: 0, failed: 0 }} />)).toBe("0 of 0");
  });
});
