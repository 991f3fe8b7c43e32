import { describe, expect, it } from "vitest";
import { read } from "../testing";
import { Storage } from "./Storage";

const storage = JSON.stringify(["storage"]);
const session = JSON.stringify(["session"]);
const as = (role: string) => ({ name: "ada", role, clock: { now: "2031-03-07T18:00:00Z", factor: 1 } });
const events = {
  name: "events",
  what: "live updates",
  days: 30,
  usual_days: 30,
  least_days: 1,
  rows: 12345,
  bytes: 2_000_000,
  pruned: 7,
  pruned_at: "2031-03-07T18:00:00Z",
};

describe("storage", () => {
  it("says what is kept, for how long and how much it is", () => {
    const text = read(<Storage />, { [storage]: [events], [session]: as("viewer") });
    expect(text).toContain("30 days");
    expect(text).toContain("12,345");
    expect(text).toContain("live updates");
    expect(text).toContain("7, last");
  });

  it("says nothing of what nobody has counted", () => {
    const text = read(<Storage />, {
      [storage]: [{ ...events, rows: undefined, bytes: undefined, pruned: 0 }],
      [session]: as("viewer"),
    });
    expect(text).toContain("—");
  });
});
