import { Box, Flex, Stack, Text } from "@chakra-ui/react";
import { memo, useCallback, useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { isOver } from "../api/queries";
import { totalOf } from "../pages/Runs";
import { count } from "../parts/format";
import { Sheet } from "../parts/Page";
import { FrameBar, FrameGrid, Legend } from "./FrameGrid";
import { type FrameMap, numbersOf, type ShotFrames, wholeOf } from "./framemap";

type Run = Schemas["Run"];

export type Picked = { shot: string; frame: number };

/** Up to so many frames all cells are shown at once; of more each shot is a line that opens. */
const openUpTo = 600;

/** From so many shots on those that lag most come first. */
const sortedFrom = 9;

const share = (s: Schemas["RunShot"]) => s.counts.done / Math.max(1, totalOf(s.counts));

const Shot = memo(function Shot({
  shot,
  frames,
  open,
  toggle,
  chosen,
  onPick,
}: {
  shot: Schemas["RunShot"];
  frames: ShotFrames;
  open: boolean;
  toggle?: (shot: string) => void;
  chosen?: number;
  onPick: (shot: string, frame: number) => void;
}) {
  const inputs = shot.after?.map((name) => name.slice((shot.pass_of?.length ?? -1) + 1));
  const name = (
    <Text fontWeight="medium" truncate>
      {shot.pass ?? shot.shot}{" "}
      <Text as="span" color="fg.muted" fontWeight="normal">
        {inputs ? `made of ${inputs.join(" and ")}` : shot.title}
      </Text>
    </Text>
  );
  return (
    <Box>
      <Flex justify="space-between" gap="3" mb="1" fontSize="sm">
        {toggle ? (
          <Box asChild cursor="pointer" rounded="sm" minW="0">
            <button type="button" aria-expanded={open} onClick={() => toggle(shot.shot)}>
              <Flex gap="2">
                <Text as="span" aria-hidden color="fg.muted">
                  {open ? "▾" : "▸"}
                </Text>
                {name}
              </Flex>
            </button>
          </Box>
        ) : (
          name
        )}
        <Text color="fg.muted" flexShrink="0">
          {shot.counts.failed > 0 && (
            <Text as="span" color="failed">
              {shot.counts.failed.toLocaleString()} failed,{" "}
            </Text>
          )}
          {shot.counts.done.toLocaleString()} of {totalOf(shot.counts).toLocaleString()}
        </Text>
      </Flex>
      {open ? (
        <FrameGrid label={`Frames of ${shot.shot}`} shot={frames} chosen={chosen} onPick={onPick} />
      ) : (
        <FrameBar shot={frames} />
      )}
    </Box>
  );
});

type Group = { of: string; title?: string; shots: Schemas["RunShot"][] };

/** The passes of a shot together, and any other shot by itself. */
function grouped(shots: Schemas["RunShot"][]): Group[] {
  const out: Group[] = [];
  for (const s of shots) {
    const of = s.pass_of ?? s.shot;
    const group = s.pass_of ? out.find((g) => g.of === of) : undefined;
    if (group) group.shots.push(s);
    else out.push({ of, title: s.title, shots: [s] });
  }
  return out;
}

/** The name of a shot with passes, and of how many of its frames all passes are done. */
function PassesOf({ group, byShot }: { group: Group; byShot: Map<string, ShotFrames> }) {
  const { done, frames } = wholeOf(group.shots.flatMap((s) => byShot.get(s.shot) ?? []));
  return (
    <Flex justify="space-between" gap="3" mb="2" fontSize="sm">
      <Text fontWeight="medium" truncate>
        {group.of}{" "}
        <Text as="span" color="fg.muted" fontWeight="normal">
          in {group.shots.length} passes
        </Text>
      </Text>
      <Text color="fg.muted" flexShrink="0">
        {done.toLocaleString()} of {frames.toLocaleString()} in all passes
      </Text>
    </Flex>
  );
}

/** Every frame of the run: of few all at once, of many a line for each shot that opens. */
export function Frames({
  run,
  map,
  chosen,
  onPick,
}: {
  run: Run;
  map: FrameMap;
  chosen?: Picked;
  onPick: (p: Picked) => void;
}) {
  const all = totalOf(run.counts);
  const few = all <= openUpTo;
  const [opened, setOpened] = useState<string[]>([]);
  const pick = useCallback((shot: string, frame: number) => onPick({ shot, frame }), [onPick]);
  const lag = !isOver(run) && run.shots.length >= sortedFrom;
  const groups = useMemo(() => {
    const least = (g: Group) => Math.min(...g.shots.map(share));
    const all = grouped(run.shots);
    return lag ? all.toSorted((a, b) => least(a) - least(b)) : all;
  }, [run.shots, lag]);
  const byShot = useMemo(() => new Map(map.shots.map((s) => [s.shot, s])), [map.shots]);
  const toggle = useCallback(
    (shot: string) => setOpened((old) => (old.includes(shot) ? old.filter((s) => s !== shot) : [...old, shot])),
    [],
  );
  return (
    <Sheet title={lag ? "Every frame, the shots that lag first" : "Every frame"} aside={<Legend counts={run.counts} />}>
      <Stack gap={few ? "5" : "3"}>
        {groups.map((g) => {
          const rows = g.shots.map((s) => {
            const frames = byShot.get(s.shot);
            if (!frames) return null;
            return (
              <Shot
                key={s.shot}
                shot={s}
                frames={frames}
                open={few || opened.includes(s.shot)}
                toggle={few ? undefined : toggle}
                chosen={chosen?.shot === s.shot ? chosen.frame : undefined}
                onPick={pick}
              />
            );
          });
          if (!g.shots[0].pass_of) return rows;
          return (
            <Box key={g.of}>
              <PassesOf group={g} byShot={byShot} />
              <Stack gap="3" ps="4" borderStartWidth="2px" borderColor="border">
                {rows}
              </Stack>
            </Box>
          );
        })}
      </Stack>
    </Sheet>
  );
}

type Failed = Schemas["FailedFrames"];

/** A cause, with what failed for it: of all shots how many frames, and which of each. */
/** Causes that do not say enough by their name. */
export const said: Record<string, string> = {
  "not-finite": "no number, or infinite",
  "input-failed": "a pass that it needs was given up",
  "flicker-brighter": "brighter than the frames around",
  "flicker-darker": "darker than the frames around",
  "flicker-colour": "another colour than the frames around",
  "flicker-part": "a part is other than before and behind",
};

function Cause({ cause, all, onPick }: { cause: string; all: Failed[]; onPick: (p: Picked) => void }) {
  const [open, setOpen] = useState(all.length === 1);
  const frames = all.reduce((n, f) => n + f.count, 0);
  const line = (
    <Flex gap="3" fontSize="sm">
      <Text color="failed" fontWeight="medium" flexShrink="0" minW="9rem">
        {said[cause] ?? (cause || "no cause was said")}
      </Text>
      <Text flexShrink="0">
        {count(frames, "frame")} of {all.length === 1 ? all[0].shot : count(all.length, "shot")}
      </Text>
      <Text color="fg.muted" truncate>
        {all.length === 1 ? all[0].frames : all.map((f) => f.shot).join(", ")}
      </Text>
    </Flex>
  );
  const first = (f: Failed) => onPick({ shot: f.shot, frame: numbersOf(f.frames)[0] });
  return (
    <Box>
      <Box asChild cursor="pointer" textAlign="left" rounded="sm" maxW="full">
        <button
          type="button"
          aria-expanded={all.length > 1 ? open : undefined}
          onClick={() => {
            setOpen(!open);
            if (!open || all.length === 1) first(all[0]);
          }}
        >
          {line}
        </button>
      </Box>
      {open && all.length > 1 && (
        <Stack gap="1" pt="1" ps={{ base: "3", md: "9.75rem" }} maxH="16rem" overflowY="auto">
          {all.map((f) => (
            <Box asChild key={f.shot} cursor="pointer" textAlign="left" rounded="sm">
              <button type="button" onClick={() => first(f)}>
                <Flex gap="3" fontSize="sm">
                  <Text flexShrink="0">{f.shot}</Text>
                  <Text color="fg.muted" truncate>
                    {f.frames}
                  </Text>
                </Flex>
              </button>
            </Box>
          ))}
        </Stack>
      )}
    </Box>
  );
}

/** What failed for good and why, the most first; a click shows the first of them. */
export function Failures({ map, onPick }: { map?: FrameMap; onPick: (p: Picked) => void }) {
  return <Causes title="Failed for good" of={map?.failed} onPick={onPick} />;
}

/** What is done and to be looked at, and why. */
export function Marked({ map, onPick }: { map?: FrameMap; onPick: (p: Picked) => void }) {
  return <Causes title="To be looked at" of={map?.marked} onPick={onPick} />;
}

function Causes({ title, of, onPick }: { title: string; of?: Failed[]; onPick: (p: Picked) => void }) {
  if (!of?.length) return null;
  const causes = [...Map.groupBy(of, (f) => f.cause)];
  const frames = (all: Failed[]) => all.reduce((n, f) => n + f.count, 0);
  return (
    <Sheet title={title} aside="by cause">
      <Stack gap="2">
        {causes
          .sort((a, b) => frames(b[1]) - frames(a[1]))
          .map(([cause, all]) => (
            <Cause key={cause} cause={cause} all={all} onPick={onPick} />
          ))}
      </Stack>
    </Sheet>
  );
}
