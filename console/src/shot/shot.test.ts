import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { distinct } from "./Compare";
import { grouped } from "./Memory";
import { together } from "./Preflight";
import { seriesOf } from "./Scaling";
import { settingsOf } from "./Settings";
import { failures } from "./Trials";

type Crew = Schemas["CrewFigures"];

const crew = (name: string, seconds: number, more: Partial<Crew> = {}): Crew => ({
  place: "capstan",
  source: "loft",
  crew: name,
  models: name.split("+").map(() => "Halyard 12"),
  devices: name.split("+").length,
  basis: "predicted",
  seconds,
  ...more,
});

describe("crews compared", () => {
  it("shows one of several alike, but each that was timed", () => {
    const rows = distinct([
      crew("g0", 40, { timed: 3, basis: "measured" }),
      crew("g1", 40.1),
      crew("g2", 40.1),
      crew("g0+g1", 22),
      crew("g2+g3", 22),
      crew("g0+g1+g2+g3", 0),
    ]);
    expect(rows.map((r) => [r.crew.crew, r.alike])).toEqual([
      ["g0", 0],
      ["g1", 1],
      ["g0+g1", 1],
    ]);
  });

  it("does not take another place's crew for alike", () => {
    expect(distinct([crew("g0", 40), crew("g0", 40, { place: "eddy" })])).toHaveLength(2);
  });
});

describe("scaling", () => {
  it("makes a series of each place and model, with intervals and measured points", () => {
    const { names, rows } = seriesOf([
      {
        place: "capstan",
        model: "Halyard 12",
        cpu: false,
        devices: 1,
        seconds: 50,
        low_s: 45,
        high_s: 56,
        measured_s: 51,
      },
      { place: "capstan", model: "Halyard 12", cpu: false, devices: 4, seconds: 39, low_s: 37, high_s: 42 },
      { place: "eddy", model: "Topsail 24", cpu: false, devices: 1, seconds: 22, low_s: 21, high_s: 23 },
    ]);
    expect(names).toEqual(["capstan, Halyard 12", "eddy, Topsail 24"]);
    expect(rows).toEqual([
      {
        devices: 1,
        "capstan, Halyard 12": 50,
        "capstan, Halyard 12 interval": [45, 56],
        "capstan, Halyard 12 measured": 51,
        "eddy, Topsail 24": 22,
        "eddy, Topsail 24 interval": [21, 23],
      },
      { devices: 4, "capstan, Halyard 12": 39, "capstan, Halyard 12 interval": [37, 42] },
    ]);
  });
});

describe("memory", () => {
  const verdict = (
    name: string,
    is: Schemas["Fit"]["verdict"],
    why: string,
    more: Partial<Schemas["Fit"]> = {},
  ): Schemas["Fit"] => ({
    place: "bellows",
    source: "loft",
    crew: name,
    verdict: is,
    need_gb: 20,
    observed: false,
    limit_gb: 12,
    head_room_gb: -8,
    slowdown: 1,
    tight: false,
    host_need_gb: 1,
    host_limit_gb: 64,
    renderers: 6,
    why,
    ...more,
  });

  it("puts crews of which the same is to be said into one row, the best first", () => {
    const rows = grouped([
      verdict("g1", "does not fit", "too small"),
      verdict("g1+cpu", "does not fit", "too small"),
      verdict("g0", "fits", "fits"),
    ]);
    expect(rows.map((r) => [r.verdict, r.crews])).toEqual([
      ["fits", ["g0"]],
      ["does not fit", ["g1", "g1+cpu"]],
    ]);
  });

  it("keeps crews apart that would gain from leaving a device out", () => {
    const without = { device: "g1", limit_gb: 24, verdict: "fits" };
    expect(
      grouped([verdict("g1", "does not fit", "x"), verdict("g0+g1", "does not fit", "x", { without })]),
    ).toHaveLength(2);
  });
});

describe("preflight", () => {
  it("puts crews of a place with the same findings together", () => {
    const finding = { level: "blocker" as const, check: "inputs", text: "a is missing", fix: "copy it" };
    const groups = together([
      { place: "dory", source: "loft", crew: "cpu", verdict: "clear", findings: [] },
      { place: "eddy", source: "loft", crew: "g0", verdict: "blocked", findings: [finding] },
      { place: "eddy", source: "loft", crew: "cpu", verdict: "clear", findings: [] },
      { place: "eddy", source: "loft", crew: "g1", verdict: "blocked", findings: [finding] },
    ]);
    expect(groups.map((g) => [g.place, g.crews.join()])).toEqual([
      ["dory", "cpu"],
      ["eddy", "g0,g1"],
      ["eddy", "cpu"],
    ]);
  });
});

describe("settings of a variant", () => {
  it("reads names and values, nothing as the shot's own, and refuses half a pair", () => {
    expect(settingsOf("antialias=0.05, quality = 4")).toEqual({ antialias: "0.05", quality: "4" });
    expect(settingsOf("")).toEqual({});
    expect(settingsOf("antialias")).toBeUndefined();
    expect(settingsOf("=4")).toBeUndefined();
  });
});

it("a trial that failed says where and why, one that is complete nothing", () => {
  const trial = {
    state: "incomplete",
    frames: [
      { frame: 1, warm_up: true, state: "failed", cause: "cannot-start", log_tail: "povray: no such file\n" },
      { frame: 20, warm_up: false, state: "done" },
    ],
  } as unknown as Schemas["Trial"];
  expect(failures(trial)).toEqual([{ frame: 1, cause: "cannot-start", words: "povray: no such file" }]);
  expect(failures({ ...trial, state: "complete" })).toEqual([]);
});
