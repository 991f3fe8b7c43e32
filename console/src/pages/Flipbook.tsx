import { Box, Button, Flex, HStack, Link, Text } from "@chakra-ui/react";
import { useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { Link as To, useParams } from "react-router";
import type { Schemas } from "../api/client";
import { pictureURL, useFrame, useFrameMap, useRun, useRuns } from "../api/queries";
import { Choice } from "../parts/Choice";
import { Exposure } from "../parts/Exposure";
import { Knob } from "../parts/Knob";
import { Page, Sheet } from "../parts/Page";
import { Shown } from "../parts/States";
import { FrameBar } from "../run/FrameGrid";
import { indexOf, type ShotFrames, words } from "../run/framemap";
import { playedTo, useReel } from "../run/reel";

/** At which a shot plays that does not say. */
const usualRate = 24;
const rates = ["8", "12", "24", "25", "30", "48", "60"];

/** A picture leaves room for what turns it. */
const stageHeight = "max(12rem, calc(100vh - 23rem))";

/** A picture on a canvas, or in its place why there is none. */
function Screen({ picture, says, style }: { picture?: HTMLImageElement; says: string; style?: React.CSSProperties }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const c = canvas.current;
    if (!c) return;
    if (picture) {
      c.width = picture.naturalWidth;
      c.height = picture.naturalHeight;
      c.getContext("2d")?.drawImage(picture, 0, 0);
    }
  }, [picture]);
  return (
    <Box position="absolute" inset="0" style={style}>
      <canvas
        ref={canvas}
        style={{ width: "100%", height: "100%", objectFit: "contain", visibility: picture ? "visible" : "hidden" }}
      />
      {!picture && (
        <Flex position="absolute" inset="0" align="center" justify="center" color="#b9c0c7" fontSize="sm">
          {says}
        </Flex>
      )}
    </Box>
  );
}

/** Where pictures of a shot are shown. */
function Stage({ spec, children }: { spec?: Schemas["RunShot"]; children: React.ReactNode }) {
  const aspectRatio = spec ? `${spec.width} / ${spec.height}` : "16 / 9";
  return (
    <Box
      position="relative"
      flex="1"
      bg="#0e151d"
      rounded="md"
      overflow="hidden"
      style={{ aspectRatio, maxHeight: stageHeight }}
    >
      {children}
    </Box>
  );
}

/** The pictures of a run's shot: of frames that are not done there is none. */
function useShotReel(run: string, shot: ShotFrames | undefined, numbers: number[], at: number, stops: number) {
  const urls = useMemo(
    () =>
      numbers.map((n) =>
        shot?.states[indexOf(shot, n)] === "d"
          ? pictureURL(run, shot.shot, n, stops === 0 ? { width: 640 } : { width: 640, exposure: stops })
          : undefined,
      ),
    [run, shot, numbers, stops],
  );
  return useReel(urls, at);
}

function stateOf(shot: ShotFrames | undefined, frame: number): string {
  const i = shot ? indexOf(shot, frame) : -1;
  const state = shot && i >= 0 ? words[shot.states[i]] : "not in this run";
  return state === "done" ? `frame ${frame} is on its way` : `frame ${frame}: ${state}`;
}

function Player({ run, shot, spec }: { run: Schemas["Run"]; shot: ShotFrames; spec?: Schemas["RunShot"] }) {
  const [at, setAt] = useState(0);
  const [playing, setPlaying] = useState(false);
  const own = String(spec?.fps ?? usualRate);
  const [rate, setRate] = useState(own);
  const [stops, setStops] = useState(0);
  const exposure = useDeferredValue(stops);
  const [other, setOther] = useState("");
  const [how, setHow] = useState<"side" | "wipe">("wipe");
  const [edge, setEdge] = useState(50);
  const numbers = shot.numbers;
  const n = numbers.length;

  // The other passes of the shot, and the shot in other runs.
  const runs = useRuns().data?.items.filter(
    (r) => r.id !== run.id && r.shots.some((s) => s.shot === shot.shot && s.counts.done > 0),
  );
  const others = [
    ...run.shots
      .filter((s) => spec?.pass_of && s.pass_of === spec.pass_of && s.shot !== shot.shot)
      .map((s) => ({ value: `${run.id} ${s.shot}`, text: `${s.pass}` })),
    ...(runs ?? []).map((r) => ({ value: `${r.id} ${shot.shot}`, text: `run ${r.id.slice(0, 8)}` })),
  ];
  const [otherRun = "", otherName] = other.split(" ");
  const otherMap = useFrameMap(otherRun || run.id);
  const otherShot = other ? otherMap.data?.shots.find((s) => s.shot === otherName) : undefined;
  const a = useShotReel(run.id, shot, numbers, at, exposure);
  const b = useShotReel(otherRun, otherShot, numbers, at, exposure);
  const first = useFrame(run.id, shot.shot, numbers[at], words[shot.states[at]]);
  const layered = !!first.data?.frame.layers?.length;

  const position = useRef(at);
  position.current = at;
  useEffect(() => {
    if (!playing) return;
    const from = position.current;
    const began = performance.now();
    const timer = setInterval(
      () => setAt(playedTo(from, (performance.now() - began) / 1000, Number(rate), n)),
      1000 / 120,
    );
    return () => clearInterval(timer);
  }, [playing, rate, n]);

  const step = (by: number) => {
    setPlaying(false);
    setAt((old) => (((old + by) % n) + n) % n);
  };
  const keys: Record<string, () => void> = {
    " ": () => setPlaying(!playing),
    ArrowLeft: () => step(-1),
    ArrowRight: () => step(1),
    PageUp: () => step(-10),
    PageDown: () => step(10),
    Home: () => step(-at),
    End: () => step(n - 1 - at),
  };
  const stage = useRef<HTMLDivElement>(null);
  useEffect(() => stage.current?.focus({ preventScroll: true }), []);
  const frame = numbers[at];
  const missing = shot.states.replaceAll("d", "").length;
  const side = other && how === "side";
  return (
    <Sheet
      title={`Frame ${frame}`}
      aside={
        missing
          ? `${missing.toLocaleString()} of ${n.toLocaleString()} frames are not done`
          : `all ${n.toLocaleString()} frames`
      }
    >
      <Box
        ref={stage}
        tabIndex={0}
        role="group"
        aria-label={`Flipbook of ${shot.shot}. Space plays and stops, arrows step, page keys step ten, home and end go to the ends.`}
        onKeyDown={(e) => {
          const key = keys[e.key];
          if (key && !(e.target instanceof HTMLSelectElement)) {
            e.preventDefault();
            key();
          }
        }}
      >
        <Flex gap="2" direction={{ base: "column", md: "row" }}>
          <Stage spec={spec}>
            {!side && other && <Screen picture={b(at)} says={stateOf(otherShot, frame)} />}
            <Screen
              picture={a(at)}
              says={stateOf(shot, frame)}
              style={!side && other ? { clipPath: `inset(0 ${100 - edge}% 0 0)`, background: "#0e151d" } : undefined}
            />
            {!side && other && (
              <Box position="absolute" top="0" bottom="0" left={`${edge}%`} w="2px" bg="#f6e7c8" pointerEvents="none" />
            )}
          </Stage>
          {side && (
            <Stage spec={spec}>
              <Screen picture={b(at)} says={stateOf(otherShot, frame)} />
            </Stage>
          )}
        </Flex>
        <Box mt="3">
          <Knob
            label="Frame"
            value={at}
            min={0}
            max={Math.max(1, n - 1)}
            step={1}
            onChange={(to) => {
              setPlaying(false);
              setAt(Math.min(n - 1, to));
            }}
            text={`${at + 1} of ${n}`}
          />
          <FrameBar shot={shot} />
        </Box>
        <Flex mt="4" gap="5" align="flex-end" wrap="wrap">
          <HStack gap="2">
            <Button variant="outline" onClick={() => step(-1)} aria-label="One frame back">
              ◂
            </Button>
            <Button onClick={() => setPlaying(!playing)} minW="5.5rem">
              {playing ? "Stop" : "Play"}
            </Button>
            <Button variant="outline" onClick={() => step(1)} aria-label="One frame on">
              ▸
            </Button>
          </HStack>
          <Choice
            label="Frames a second"
            value={rate}
            options={[...new Set([...rates, own])].sort((x, y) => Number(x) - Number(y))}
            onChange={setRate}
          />
          {others.length > 0 && (
            <Choice
              label="Beside it"
              value={other}
              options={[{ value: "", text: "nothing" }, ...others]}
              onChange={setOther}
            />
          )}
          {other && (
            <Choice
              label="How"
              value={how}
              options={[
                { value: "wipe", text: "wiped" },
                { value: "side", text: "side by side" },
              ]}
              onChange={setHow}
            />
          )}
          {other && how === "wipe" && (
            <Flex flex="1" minW="10rem">
              <Knob label="Edge" value={edge} min={0} max={100} step={1} onChange={setEdge} text={`${edge} %`} />
            </Flex>
          )}
          {layered && (
            <Flex flex="1" minW="10rem">
              <Exposure stops={stops} onChange={setStops} />
            </Flex>
          )}
        </Flex>
        <Text mt="3" color="fg.muted" fontSize="sm">
          Space plays and stops, arrows step. What is played are previews, 640 pixels wide.
        </Text>
      </Box>
    </Sheet>
  );
}

/** A shot's frames played one after another. */
export function Flipbook() {
  const { id = "", shot: name = "" } = useParams();
  const run = useRun(id);
  const map = useFrameMap(id);
  const shot = map.data?.shots.find((s) => s.shot === name);
  return (
    <Page
      title={`${name}, played`}
      lead={
        <Link asChild>
          <To to={`/runs/${id}`}>Run {id.slice(0, 8)}</To>
        </Link>
      }
    >
      <Shown query={run}>
        {(r) =>
          shot && shot.numbers.length > 0 ? (
            <Player run={r} shot={shot} spec={r.shots.find((s) => s.shot === name)} />
          ) : (
            <Text color="fg.muted">{map.data ? `There is no shot ${name} in this run.` : "Reading its frames…"}</Text>
          )
        }
      </Shown>
    </Page>
  );
}
