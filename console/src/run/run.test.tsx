import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { SourceTable } from "../shot/Sources";
import { read, run } from "../testing";
import { Entries } from "./Entries";
import { FarmJobs, Waiting } from "./FarmJobs";
import { Stranded } from "./Rest";

const job = (more: Partial<Schemas["FarmJob"]>): Schemas["FarmJob"] => ({
  id: "bb220000-0000-4000-8000-000000000000",
  run: "aa110000-0000-4000-8000-000000000000",
  shot: "stair-030",
  farm: "saltmarsh-ebb",
  source: "saltmarsh",
  state: "rendering",
  frames: 40,
  done: 12,
  failed: 0,
  proofs: [1, 20, 40],
  findings: [],
  queue: 0,
  rendered_s: 4000,
  elapsed_s: 1200,
  committed: "3.42",
  ...more,
});

describe("what of a run waits for a person", () => {
  it("says how many frames are stranded, why, and offers a plan to who may write", () => {
    const stranded = run({
      stranded: [
        { shot: "stair-030", frames: 6, why: "eddy is not heard of; tern-solo-1 is ended" },
        { shot: "coda-060", frames: 1, why: "punt is draining" },
      ],
    });
    const text = read(<Stranded run={stranded} mayWrite />);
    expect(text).toContain("7 frames wait and nobody is left to render them");
    expect(text).toContain("stair-030, 6: eddy is not heard of; tern-solo-1 is ended");
    expect(text).toContain("Plan the rest");
    expect(read(<Stranded run={stranded} mayWrite={false} />)).not.toContain("Plan the rest");
    expect(read(<Stranded run={run({})} mayWrite />)).toBe("");
  });

  it("shows proof frames only while they wait", () => {
    const held = run({ farm_jobs: [job({ state: "held" }), job({ id: "2", state: "held", accepted: true })] });
    const text = read(<Waiting run={held} />);
    expect(text.match(/Proof frames of stair-030 at saltmarsh-ebb/g)).toHaveLength(1);
    expect(text).toContain("frame 20, from saltmarsh-ebb");
    expect(read(<Waiting run={run({ farm_jobs: [job({})] })} />)).toBe("");
  });
});

describe("farms of a run", () => {
  it("keep summed and elapsed time apart, and say what is the matter", () => {
    const text = read(
      <FarmJobs
        run={run({
          farm_jobs: [
            job({ failed: 2, charge: "3.10" }),
            job({ id: "2", state: "rejected", trouble: "no plugin tidefog" }),
          ],
        })}
      />,
    );
    expect(text).toContain("1 h 07 min");
    expect(text).toContain("20 min 00 s");
    expect(text).toContain("12 of 40");
    expect(text).toContain("no plugin tidefog");
    expect(read(<FarmJobs run={run({})} />)).toBe("");
  });
});

const entry = (more: Partial<Schemas["Entry"]>): Schemas["Entry"] => ({
  run: "aa110000-0000-4000-8000-000000000000",
  day: "2031-03-07",
  source: "tern",
  place: "tern-solo-1",
  kind: "frames",
  frames: 12,
  seconds: 3600,
  estimated: "1.1000",
  charged: "1.2049",
  why: "",
  ...more,
});

describe("the ledger by entry", () => {
  it("adds up to the cent and tells why the two differ", () => {
    const list: Schemas["EntryList"] = {
      items: [
        entry({ crew: "g0", shot: "stair-030", why: "others rendered 5 of its 17 frames" }),
        entry({ kind: "unused", frames: 0, charged: "0.0001", estimated: "0.0000", metered: "EUR 1.20 for 58m0s" }),
      ],
      currency: "EUR",
      estimated: "1.10",
      charged: "1.21",
      frames: 12,
      failed_cost: "0.00",
      unused_cost: "0.00",
    };
    const text = read(<Entries title="Ledger by entry" list={list} />);
    expect(text).toContain("2 entries: €1.21 charged, €1.10 estimated");
    expect(text).toContain("tern-solo-1/g0");
    expect(text).toContain("others rendered 5 of its 17 frames");
    expect(text).toContain("its meter: EUR 1.20 for 58m0s");
  });
});

describe("sources side by side", () => {
  const rows: Schemas["SourceRow"][] = [
    {
      source: "loft",
      status: "late",
      cost: "0.76",
      elapsed_s: 15960,
      rendered_s: 47820,
      usable: 320,
      marks: ["baseline"],
    },
    {
      source: "saltmarsh",
      status: "impossible",
      unsupported: ["saltmarsh-ebb: in gpu mode simulator renders no foam"],
    },
    {
      source: "best mix",
      status: "meets",
      cost: "4.00",
      saving: "-3.24",
      usable: 320,
      frame_cost: "0.0125",
      measured_share: 0.52,
      marks: ["cheapest"],
    },
  ];
  it("says before a run what each would cost, and what stops one", () => {
    const text = read(<SourceTable title="Sources" x={{ currency: "EUR", basis: "estimated", rows }} />);
    for (const want of [
      "late",
      "baseline",
      "€0.76",
      "impossible",
      "saltmarsh: 1 place left out",
      "renders no foam",
      "52 %",
      "Saves",
      "cheapest",
    ])
      expect(text).toContain(want);
    expect(text).not.toContain("Failed tries");
  });
  it("says after it what each came to", () => {
    const text = read(
      <SourceTable
        title="Sources"
        x={{
          currency: "EUR",
          basis: "charged",
          rows: [{ source: "gannet", status: "charged", cost: "6.01", estimated: "5.11", usable: 210, failed: 7 }],
        }}
      />,
    );
    for (const want of ["Charged", "Estimated", "€5.11", "€6.01", "Failed tries", "7"]) expect(text).toContain(want);
    expect(text).not.toContain("Saves");
  });
});
