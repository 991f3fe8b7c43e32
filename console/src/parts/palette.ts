/** Colours that tell shots and runs apart, with white words on them: the first are chosen, those after them go round
 * the colour circle by the golden angle, so that each lies between earlier ones, in three depths. */
const chosen = ["#2b7f76", "#8a5f1d", "#4f6d94", "#8a4a5a", "#5c7a3a", "#6b5a94", "#3d7f98", "#94663f"];

const golden = 137.508;

export function colourAt(i: number): string {
  const at = Math.max(0, i);
  return chosen[at] ?? `oklch(${[0.5, 0.42, 0.56][at % 3]} 0.09 ${((at * golden) % 360).toFixed(1)})`;
}
