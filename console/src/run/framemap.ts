import type { Schemas } from "../api/client";

type Frame = Schemas["Frame"];
type Failed = Schemas["FailedFrames"];

/** The states of frames by their letters, and p: several of which some are done. */
export const words: Record<string, string> = {
  w: "waiting",
  r: "rendering",
  d: "done",
  f: "failed",
  p: "some done",
};

/** How the frames of a shot are: a letter for each of their numbers. */
export type ShotFrames = { shot: string; numbers: number[]; states: string };

/** How every frame of a run is, what failed for good, what is to be looked at, and which were done last. */
export type FrameMap = { shots: ShotFrames[]; failed: Failed[]; marked: Failed[]; latest: Frame[] };

/** The numbers of a set of frames such as 1-95x2,120. */
export function numbersOf(set: string): number[] {
  const out: number[] = [];
  for (const part of set.split(",")) {
    const m = /^(-?\d+)(?:-(-?\d+)(?:x(\d+))?)?$/.exec(part.trim());
    if (!m) continue;
    const last = Number(m[2] ?? m[1]);
    for (let n = Number(m[1]); n <= last; n += Number(m[3] ?? 1)) out.push(n);
  }
  return out;
}

/** A letter for each frame, of run lengths such as 12d3r85w. */
export const lettersOf = (lengths: string): string =>
  lengths.replace(/(\d+)([a-z])/g, (_, n: string, letter: string) => letter.repeat(Number(n)));

export const readMap = (m: Schemas["FrameMap"]): FrameMap => ({
  shots: m.shots.map((s) => ({ shot: s.shot, numbers: numbersOf(s.frames), states: lettersOf(s.states) })),
  failed: m.failed,
  marked: m.marked,
  latest: m.latest,
});

/** Where a frame stands among its shot's; -1: nowhere. */
export function indexOf(s: ShotFrames, frame: number): number {
  let [low, high] = [0, s.numbers.length - 1];
  while (low < high) {
    const mid = (low + high) >> 1;
    if (s.numbers[mid] < frame) low = mid + 1;
    else high = mid;
  }
  return s.numbers[low] === frame ? low : -1;
}

/** How many of the frames that were done last are kept. */
const kept = 8;

/** Puts what an event says of a frame into a map. */
export function withFrame(map: FrameMap | undefined, e: Schemas["Event"]): FrameMap | undefined {
  if (!map || e.kind !== "frame" || !e.state) return map;
  const at = map.shots.findIndex((s) => s.shot === e.shot);
  const i = at < 0 ? -1 : indexOf(map.shots[at], e.frame ?? Number.NaN);
  if (i < 0) return map;
  const old = map.shots[at];
  if (old.states[i] === e.state[0]) return map;
  const shots = [...map.shots];
  shots[at] = { ...old, states: old.states.slice(0, i) + e.state[0] + old.states.slice(i + 1) };
  if (e.state !== "done") return { ...map, shots };
  const done: Frame = {
    shot: old.shot,
    frame: old.numbers[i],
    state: "done",
    failures: 0,
    host: e.host,
    crew: e.crew,
    seconds: e.seconds,
    done: e.at,
  };
  const others = map.latest.filter((f) => f.shot !== done.shot || f.frame !== done.frame);
  return { ...map, shots, latest: [done, ...others].slice(0, kept) };
}

/** Of several frames what matters most: one that failed, one that is rendered, else how far they are. */
export function most(states: string, from: number, to: number): string {
  let [done, rendering] = [0, false];
  for (let i = from; i < to; i++) {
    if (states[i] === "f") return "f";
    if (states[i] === "r") rendering = true;
    if (states[i] === "d") done++;
  }
  if (rendering) return "r";
  if (done === to - from) return "d";
  return done > 0 ? "p" : "w";
}

/** Of how many frames all passes are done, and how many there are. */
export function wholeOf(passes: ShotFrames[]): { done: number; frames: number } {
  const frames = Math.max(0, ...passes.map((p) => p.states.length));
  let done = 0;
  for (let i = 0; i < frames; i++) if (passes.every((p) => p.states[i] === "d")) done++;
  return { done, frames };
}

const known = new WeakMap<ShotFrames, Schemas["FrameCounts"]>();

/** How many frames of a shot are how far. */
export function countsOf(s: ShotFrames): Schemas["FrameCounts"] {
  let out = known.get(s);
  if (!out) {
    out = { waiting: 0, rendering: 0, done: 0, failed: 0 };
    for (const letter of s.states) out[words[letter] as keyof typeof out]++;
    known.set(s, out);
  }
  return out;
}

const shown = new WeakMap<ShotFrames, Schemas["RunShot"]>();

/** A run with its frames counted as the map has them, which is newer; shots that are the same stay the same. */
export function counted(run: Schemas["Run"], map: FrameMap | undefined): Schemas["Run"] {
  if (!map) return run;
  const of = new Map(map.shots.map((s) => [s.shot, s]));
  const counts = { waiting: 0, rendering: 0, done: 0, failed: 0 };
  const shots = run.shots.map((shot) => {
    const frames = of.get(shot.shot);
    const now = frames ? countsOf(frames) : shot.counts;
    for (const k of ["waiting", "rendering", "done", "failed"] as const) counts[k] += now[k];
    if (!frames) return shot;
    let out = shown.get(frames);
    if (!out || out.title !== shot.title) {
      out = { ...shot, counts: now };
      shown.set(frames, out);
    }
    return out;
  });
  return { ...run, counts, shots };
}
