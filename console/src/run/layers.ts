import type { Schemas } from "../api/client";
import type { View } from "../api/queries";

/** What can be looked at of a finished frame: a layer of its picture, or a picture beside that. */
export interface Layer {
  value: string;
  text: string;
  of: View & { file?: string };
  bright: boolean; // it has more light in it than a screen shows
  shown: boolean; // a browser shows its file
}

const byBrowsers = ["png", "jpg", "jpeg"];

export function layersOf({ layers, files, format }: Pick<Schemas["Frame"], "layers" | "files" | "format">): Layer[] {
  const main = layers?.length
    ? layers.map((name) => ({
        value: name,
        text: name || "main layer",
        of: { layer: name },
        bright: true,
        shown: false,
      }))
    : [{ value: "", text: "picture", of: {}, bright: false, shown: format !== "tiff" }];
  const beside = (files ?? [])
    .filter((f) => f.kind === "picture")
    .map(({ name, ending }) => ({
      value: `file:${name}`,
      text: name,
      of: { file: name },
      bright: ending.toLowerCase() === "exr",
      shown: byBrowsers.includes(ending.toLowerCase()),
    }));
  return [...main, ...beside];
}

/** How a layer is asked for: small, and in full size. What a frame is first looked at as has previews that are kept. */
export function viewsOf(layer: Layer, isFirst: boolean, exposure: number): Record<"small" | "whole", Layer["of"]> {
  const bright = { ...layer.of, exposure };
  return {
    small: { width: 640, ...(isFirst && exposure === 0 ? {} : layer.bright ? bright : layer.of) },
    whole: layer.bright ? bright : layer.shown ? layer.of : { ...layer.of, exposure: 0 },
  };
}
