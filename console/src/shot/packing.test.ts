import { expect, it } from "vitest";
import { below, chunkSize, cut, lacking } from "./packing";

const found = (path: string, text: string | Uint8Array<ArrayBuffer>) => ({ path, file: new Blob([text]) });

it("lists a folder's files by their paths below it", () => {
  const of = (webkitRelativePath: string) => ({ webkitRelativePath, name: "x.pov" }) as File;
  expect(below([of("scenes/stair/stair.pov"), of("scenes/gears.yaml"), of("")]).map((f) => f.path)).toEqual([
    "gears.yaml",
    "stair/stair.pov",
    "x.pov",
  ]);
});

it("says what a shot needs that is not there", () => {
  const files = [found("stair.pov", "a"), found("maps/wood.png", "b")];
  expect(lacking({ scene: "stair.pov", inputs: ["maps/wood.png", "maps/stone.png"] }, files)).toEqual([
    "maps/stone.png",
  ]);
  expect(lacking({ scene: "stair.pov" }, files)).toEqual([]);
});

it("cuts files into chunks by their sums", async () => {
  const large = new Uint8Array(2 * chunkSize + 1);
  const { files, where } = await cut([found("a.txt", "frames: {}\n"), found("large", large), found("empty", "")]);
  expect(files.map((f) => [f.path, f.size, f.chunks.length])).toEqual([
    ["a.txt", 11, 1],
    ["large", 2 * chunkSize + 1, 3],
    ["empty", 0, 0],
  ]);
  expect(files[1]?.chunks[0]).toBe(files[1]?.chunks[1]);
  expect(where.size).toBe(3);
  expect(where.get(files[1]?.chunks[2] ?? "")?.size).toBe(1);
  expect(files[1]?.chunks[2]).toBe("6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d"); // of one zero
});
