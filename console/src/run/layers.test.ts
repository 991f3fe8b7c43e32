import { expect, test } from "vitest";
import { layersOf, viewsOf } from "./layers";

const file = (name: string, ending: string, kind: "picture" | "json" = "picture") => ({
  name,
  ending,
  kind,
  sha256: "",
  bytes: 1,
});

test("what can be looked at of a frame", () => {
  const files = [file("depth", "exr"), file("matte", "png"), file("stats", "json", "json")];
  const exr = layersOf({ layers: ["", "diffuse"], files, format: "exr" });
  expect(exr.map((l) => l.text)).toEqual(["main layer", "diffuse", "depth", "matte"]);
  const views = exr.map((l, i) => viewsOf(l, i === 0, i));
  expect(views).toEqual([
    { small: { width: 640 }, whole: { layer: "", exposure: 0 } },
    { small: { width: 640, layer: "diffuse", exposure: 1 }, whole: { layer: "diffuse", exposure: 1 } },
    { small: { width: 640, file: "depth", exposure: 2 }, whole: { file: "depth", exposure: 2 } },
    { small: { width: 640, file: "matte" }, whole: { file: "matte" } },
  ]);
  const [png] = layersOf({ format: "png" });
  expect(viewsOf(png, true, 0)).toEqual({ small: { width: 640 }, whole: {} });
  const [tiff] = layersOf({ format: "tiff" });
  expect(viewsOf(tiff, true, 0).whole).toEqual({ exposure: 0 });
});
