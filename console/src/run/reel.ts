import { useEffect, useReducer, useRef } from "react";

/** How many pictures are fetched at once, and kept at most. */
const atOnce = 6;
const kept = 400;

/** The order in which pictures are wanted, so many at most: from the one that is looked at on, round to the one before it. */
export const wantedFrom = (at: number, n: number, most = n): number[] =>
  Array.from({ length: Math.min(n, most) }, (_, i) => (at + i) % n);

/** Where playing is after some seconds at a rate, from a place on, over and over. */
export const playedTo = (from: number, seconds: number, fps: number, n: number): number =>
  n === 0 ? 0 : (from + Math.floor(seconds * fps)) % n;

/** The pictures of a shot, fetched from the one that is looked at on. No URL: there is none. */
export function useReel(urls: (string | undefined)[], at: number): (i: number) => HTMLImageElement | undefined {
  const pictures = useRef(new Map<string, HTMLImageElement>());
  const fetching = useRef(new Set<string>());
  const failed = useRef(new Set<string>());
  const [turn, again] = useReducer((n: number) => n + 1, 0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: each picture that has come makes room for another
  useEffect(() => {
    for (const i of wantedFrom(at, urls.length, kept)) {
      const url = urls[i];
      if (fetching.current.size >= atOnce) return;
      if (!url || pictures.current.has(url) || fetching.current.has(url) || failed.current.has(url)) continue;
      fetching.current.add(url);
      const img = new Image();
      const over = (into: () => void) => () => {
        fetching.current.delete(url);
        into();
        again();
      };
      img.onload = over(() => {
        pictures.current.set(url, img);
        for (const old of pictures.current.keys()) {
          if (pictures.current.size <= kept) break;
          pictures.current.delete(old); // those that came first
        }
      });
      img.onerror = over(() => failed.current.add(url));
      img.src = url;
    }
  }, [urls, at, turn]);
  return (i) => {
    const url = urls[i];
    return url ? pictures.current.get(url) : undefined;
  };
}
