import { describe, expect, it } from "vitest";
import { changesOf, DoneTo } from "../parts/Records";
import { read } from "../testing";
import { Audit } from "./Audit";

const record = {
  id: 7,
  at: "2031-03-07T18:00:00Z",
  who: "ada",
  role: "operator",
  from: "192.0.2.7",
  did: "set run state",
  about: "/runs/12345678-0000-4000-8000-000000000000",
  before: { state: "running" },
  after: { state: "paused" },
};
const session = JSON.stringify(["session"]);
const as = (role: string) => ({ name: "ada", role, clock: { now: "2031-03-07T18:00:00Z", factor: 1 } });
const key = (query: object) => JSON.stringify(["audit", query]);

describe("the audit record", () => {
  it("says what was and what is", () => {
    expect(changesOf(record)).toEqual(["state: running → paused"]);
    expect(changesOf({ ...record, before: undefined, after: { devices: [1], name: "eddy" } })).toEqual([
      "devices: [1]",
      "name: eddy",
    ]);
    expect(changesOf({ ...record, after: undefined })).toEqual(["state: running, no more"]);
  });

  it("is a page that can be searched", () => {
    const all = key({ text: "", who: "", about: "", limit: 200 });
    const text = read(<Audit />, { [session]: as("operator"), [all]: [record] });
    expect(text).toContain("ada");
    expect(text).toContain("/runs/12345678");
    expect(text).toContain("running → paused");
    expect(read(<Audit />, { [session]: as("operator"), [all]: [] })).toContain("Nothing was done that fits");
  });

  it("stands on the page of what it is about, for those who may know", () => {
    const its = key({ about: "/hosts/eddy", limit: 8 });
    const shown = { [its]: [record] };
    expect(read(<DoneTo about="/hosts/eddy" />, { [session]: as("operator"), ...shown })).toContain("set run state");
    expect(read(<DoneTo about="/hosts/eddy" />, { [session]: as("viewer"), ...shown })).not.toContain("set run state");
  });
});
