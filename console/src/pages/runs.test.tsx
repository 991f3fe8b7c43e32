import { describe, expect, it } from "vitest";
import { read, run } from "../testing";
import { Progress, Runs, totalOf } from "./Runs";

const runs = JSON.stringify(["runs", "newest", 1]);
const page = (all: ReturnType<typeof run>[], more = false) => ({ [runs]: { items: all, more } });
const shot = (name: string) => ({
  shot: name,
  frames: "1-38",
  width: 480,
  height: 270,
  counts: { waiting: 7, rendering: 1, done: 30, failed: 0 },
});

describe("the list of runs", () => {
  it("says how to begin where there is none", () => {
    expect(read(<Runs />, page([]))).toContain("No run yet");
  });

  it("has what is due and the backlog apart", () => {
    const text = read(
      <Runs />,
      page([
        run({ id: "1", priority: "urgent", deadline: "2031-03-07T21:00:00Z", shots: [shot("storm-050")] }),
        run({ id: "2", priority: "backlog", shots: [shot("lamp-040")], state: "complete" }),
      ]),
    );
    const [due, backlog] = text.split(/(?=Backlog no deadline)/);
    expect(due).toContain("storm-050");
    expect(due).toContain("urgent");
    expect(due).toContain("Deadline");
    expect(due).not.toContain("lamp-040");
    expect(backlog).toContain("lamp-040");
    expect(backlog).toContain("complete");
    expect(backlog).not.toContain("Deadline");
  });

  it("names few shots of a run of many, shows few rows at once, and older runs when asked", () => {
    const shots = Array.from({ length: 40 }, (_, n) => shot(`coda-${n}`));
    const many = Array.from({ length: 60 }, (_, n) => run({ id: `run${n}`, shots }));
    const text = read(<Runs />, page(many, true));
    expect(text).toContain("coda-3 and 36 more");
    expect(text).not.toContain("coda-4");
    expect(text).toContain("run49");
    expect(text).not.toContain("run50");
    expect(text).toContain("10 more");
    expect(text).toContain("Show 100 older runs");
  });

  it("has no empty table for either", () => {
    const one = run({ id: "2", priority: "backlog", shots: [shot("lamp-040")] });
    expect(read(<Runs />, page([one])).match(/Frames done/g)).toHaveLength(1);
    const due = read(<Runs />, page([run({ shots: [shot("storm-050")] })]));
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
