import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Problem } from "../api/client";
import { check, faults } from "./check";
import { at, boundsOf, labelOf, type Schema, schemaOf } from "./contract";
import { keptFor, readDraft, writeDraft } from "./draft";
import { type Kind, kinds, nameOf } from "./kinds";
import { refused, said } from "./SpecForm";

const schemas = {
  Name: { type: "string", pattern: "^[a-z0-9-]+$", description: "small letters, such as stair-030" },
  Host: {
    type: "object",
    required: ["name", "memory_gb"],
    additionalProperties: false,
    properties: {
      name: { $ref: "#/components/schemas/Name" },
      memory_gb: { type: "number", minimum: 0, exclusiveMinimum: true, maximum: 100 },
      kind: { type: "string", enum: ["loft", "desk"] },
      by: { type: "string", format: "date-time" },
      devices: {
        type: "array",
        maxItems: 2,
        items: {
          type: "object",
          required: ["id"],
          properties: { id: { type: "string", maxLength: 3 }, cores: { type: "integer" } },
        },
      },
    },
  },
} as unknown as Record<string, Schema>;
const host = schemaOf({ components: { schemas } }, "Host");
const told = (value: unknown) => faults(host, value).map((f) => `${f.path.join("/")} ${f.message}`);

it("says what is wrong in words that say what would be right", () => {
  expect(
    told({ name: "bellows", memory_gb: 64, kind: "desk", by: "2031-03-10T09:00:00Z", devices: [{ id: "g0" }] }),
  ).toEqual([]);
  expect(told({ name: "Bellows", memory_gb: 0 })).toEqual([
    "name has to be small letters, such as stair-030",
    "memory_gb has to be more than 0",
  ]);
  expect(told({ memory_gb: 101, kind: "van", by: "soon" })).toEqual([
    "name is needed",
    "memory_gb has to be at most 100",
    "kind has to be one of loft, desk",
    "by has to be a time, such as 2031-03-10T09:00",
  ]);
  expect(told({ name: "a", memory_gb: "much", devices: [{ id: "g0", cores: 1.5 }, {}, { id: "long" }] })).toEqual([
    "memory_gb has to be a number",
    "devices has to have at most 2",
    "devices/0/cores has to be a whole number",
    "devices/1/id is needed",
    "devices/2/id has to have at most 3 characters",
  ]);
  expect(told(undefined)).toEqual(["name is needed", "memory_gb is needed"]);
});

it("tells a form where each fault is", () => {
  const { errors, errorSchema } = check.validateFormData({ name: "a", memory_gb: 1, devices: [{}] }, host);
  expect(errors).toHaveLength(1);
  expect(errorSchema).toEqual({ devices: { 0: { id: { __errors: ["is needed"] } } } });
  expect(check.isValid(host, { name: "a", memory_gb: 1 }, host)).toBe(true);
});

it("finds parts of the contract, and what in it is a bound", () => {
  expect(at(host, "/properties/name/$ref/pattern")).toBe("^[a-z0-9-]+$");
  expect(at(host, "/properties/nothing/there")).toEqual({});
  expect(boundsOf(host)).toEqual(["small letters, such as stair-030"]);
  expect(() => schemaOf({ components: { schemas } }, "Ghost")).toThrow("Ghost");
});

it("labels what the contract has no title for", () => {
  expect(["name", "memory_gb", "price_h", "boot_s", "upload_mb_s", "idle_watts", "extra_seats"].map(labelOf)).toEqual([
    "Name",
    "Memory, GB",
    "Price an hour",
    "Boot, s",
    "Upload, MB/s",
    "Idle, W",
    "Extra seats",
  ]);
});

it("shows what the service refused at the fields that it names", () => {
  const errors = [
    { field: "/spec/name", detail: "is taken" },
    { field: "/spec/name", detail: "is short" },
    { field: "/secret", detail: "is no key" },
  ];
  expect(refused(new Problem({ type: "about:blank", title: "no", status: 422, errors }))).toEqual({
    spec: { name: { __errors: ["is taken", "is short"] } },
    secret: { __errors: ["is no key"] },
  });
  expect(refused(new Error("gone"))).toBeUndefined();
});

it("does not say what was cleared", () => {
  expect(
    said({ a: "x", b: undefined, c: {}, d: { e: undefined }, f: [], g: [{ h: undefined, i: 0 }], j: false }),
  ).toEqual({
    a: "x",
    g: [{ i: 0 }],
    j: false,
  });
});

it("knows what one of each kind is called", () => {
  const values: Record<string, object> = { sources: { spec: { name: "tern" } }, licences: { pool: "tern" } };
  for (const [of, kind] of Object.entries(kinds))
    expect(nameOf(kind as Kind, (values[of] ?? { name: "tern" }) as Record<string, unknown>)).toBe("tern");
  expect(nameOf(kinds.sources, {})).toBe("");
});

const kept = new Map<string, string>();
beforeEach(() => {
  vi.useFakeTimers({ now: Date.parse("2031-03-07T18:00:00Z") });
  vi.stubGlobal(
    "localStorage",
    new Proxy(
      {
        getItem: (k: string) => kept.get(k) ?? null,
        setItem: (k: string, v: string) => kept.set(k, v),
        removeItem: (k: string) => kept.delete(k),
      },
      { ownKeys: () => [...kept.keys()], getOwnPropertyDescriptor: () => ({ enumerable: true, configurable: true }) },
    ),
  );
});
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
  kept.clear();
});

it("keeps what was typed for a while, without secrets", () => {
  writeDraft("new sources", { spec: { name: "tern" }, secret: "hush" }, ["secret"]);
  expect(readDraft("new sources")?.value).toEqual({ spec: { name: "tern" } });
  expect(JSON.stringify([...kept.values()])).not.toContain("hush");
  expect(readDraft("new hosts")).toBeUndefined();
  vi.advanceTimersByTime(keptFor);
  expect(readDraft("new sources")).toBeUndefined();
  writeDraft("new hosts", { name: "eddy" }, []);
  expect([...kept.keys()]).toEqual(["rotanex draft new hosts"]);
  kept.set("rotanex draft broken", "{");
  expect(readDraft("broken")).toBeUndefined();
});
