import { Box, Flex, Text } from "@chakra-ui/react";
import { type KeyboardEvent, type MouseEvent, memo, useEffect, useId, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { most, type ShotFrames, words } from "./framemap";

/** How large a cell is and how far it is from the next, by how many there are. */
const sizes = [
  { upTo: 400, cell: 15, gap: 3 },
  { upTo: 2_000, cell: 9, gap: 2 },
  { upTo: Number.POSITIVE_INFINITY, cell: 6, gap: 1 },
];

/** More cells than this are not drawn of one shot: each then stands for several frames. */
const mostCells = 20_000;

type Paint = Record<string, string>;

/** The colours of the page's mode, for what is drawn by hand. */
function usePaint(): Paint {
  const [paint, setPaint] = useState<Paint>({});
  useEffect(() => {
    const look = () => {
      const style = getComputedStyle(document.documentElement);
      const colour = (name: string) => style.getPropertyValue(`--chakra-colors-${name}`).trim();
      setPaint({
        w: colour("waiting"),
        r: colour("rendering"),
        d: colour("done"),
        f: colour("failed"),
        fg: colour("fg"),
        paper: colour("paper"),
      });
    };
    look();
    const mode = new MutationObserver(look);
    mode.observe(document.documentElement, { attributes: true, attributeFilter: ["class"] });
    return () => mode.disconnect();
  }, []);
  return paint;
}

/** How wide a box is, as it is now. */
function useWidth() {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    if (!box.current) return;
    const seen = new ResizeObserver(([entry]) => setWidth(Math.floor(entry.contentRect.width)));
    seen.observe(box.current);
    return () => seen.disconnect();
  }, []);
  return [box, width] as const;
}

/** Draws with pixels of the screen. */
function draw(
  canvas: HTMLCanvasElement | null,
  width: number,
  height: number,
  how: (c: CanvasRenderingContext2D) => void,
) {
  const c = canvas?.getContext("2d");
  if (!canvas || !c) return;
  const scale = devicePixelRatio;
  canvas.width = width * scale;
  canvas.height = height * scale;
  c.scale(scale, scale);
  how(c);
}

/** One cell: a colour, and for what must not be missed a shape. */
function cell(c: CanvasRenderingContext2D, paint: Paint, state: string, x: number, y: number, size: number) {
  c.fillStyle = paint[state === "p" ? "w" : state] ?? "";
  if (state === "f") {
    const line = size > 8 ? 2 : 1.5;
    c.strokeStyle = paint.f;
    c.lineWidth = line;
    c.strokeRect(x + line / 2, y + line / 2, size - line, size - line);
    c.beginPath();
    c.moveTo(x + size / 4, y + size / 4);
    c.lineTo(x + (3 * size) / 4, y + (3 * size) / 4);
    c.moveTo(x + (3 * size) / 4, y + size / 4);
    c.lineTo(x + size / 4, y + (3 * size) / 4);
    c.stroke();
    return;
  }
  c.beginPath();
  c.roundRect(x, y, size, size, size > 8 ? 3 : 1);
  c.fill();
  if (state === "p") {
    c.fillStyle = paint.d;
    c.fillRect(x, y + size / 2, size, size / 2);
  }
  if (state === "r" && size > 8) {
    c.fillStyle = paint.paper;
    c.beginPath();
    c.arc(x + size / 2, y + size / 2, size / 6, 0, 7);
    c.fill();
  }
}

/** All frames of a shot in one line: where they are done, rendered and failed. */
export const FrameBar = memo(function FrameBar({ shot }: { shot: ShotFrames }) {
  const paint = usePaint();
  const [box, width] = useWidth();
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    draw(canvas.current, width, 12, (c) => {
      const n = shot.states.length;
      const step = Math.max(1, width / n);
      for (let x = 0; x < width && n > 0; x += step) {
        const from = Math.floor((x / width) * n);
        const state = most(shot.states, from, Math.max(from + 1, Math.floor(((x + step) / width) * n)));
        c.fillStyle = paint[state === "p" ? "w" : state] ?? "";
        c.fillRect(x, 0, step + 0.5, 12);
        if (state === "p") {
          c.fillStyle = paint.d;
          c.fillRect(x, 6, step + 0.5, 6);
        }
      }
      for (let i = shot.states.indexOf("f"); i >= 0; i = shot.states.indexOf("f", i + 1)) {
        c.fillStyle = paint.f; // never thinner than the eye sees
        c.fillRect((i / n) * width - 0.5, 0, 2, 12);
      }
    });
  }, [paint, width, shot.states]);
  return (
    <Box ref={box} h="12px" rounded="3px" overflow="hidden" bg="waiting">
      <canvas ref={canvas} style={{ width, height: 12 }} aria-hidden />
    </Box>
  );
});

/** Every frame of a shot as a cell. One stop for the tab key; arrows move about. */
export const FrameGrid = memo(function FrameGrid({
  label,
  shot,
  chosen,
  onPick,
}: {
  label: string;
  shot: ShotFrames;
  chosen?: number;
  onPick: (shot: string, frame: number) => void;
}) {
  const id = useId();
  const paint = usePaint();
  const [box, width] = useWidth();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [hint, setHint] = useState("");
  const every = Math.ceil(shot.states.length / mostCells) || 1;
  const cells = Math.ceil(shot.states.length / every);
  const size = sizes.find((s) => cells <= s.upTo) ?? sizes[0];
  const pitch = size.cell + size.gap;
  const columns = Math.max(1, Math.floor((width + size.gap) / pitch));
  const height = Math.max(0, Math.ceil(cells / columns) * pitch - size.gap);
  const at = chosen === undefined ? -1 : shot.numbers.indexOf(chosen);
  useEffect(() => {
    if (width === 0) return;
    draw(canvas.current, width, height, (c) => {
      for (let i = 0; i < cells; i++) {
        const state =
          every === 1 ? shot.states[i] : most(shot.states, i * every, Math.min(shot.states.length, (i + 1) * every));
        cell(c, paint, state, (i % columns) * pitch, Math.floor(i / columns) * pitch, size.cell);
      }
      if (at < 0) return;
      const i = Math.floor(at / every);
      const [x, y] = [(i % columns) * pitch, Math.floor(i / columns) * pitch];
      for (const [colour, inset] of [
        [paint.fg, 1],
        [paint.paper, 2.5],
      ] as const) {
        c.strokeStyle = colour;
        c.lineWidth = inset === 1 ? 2 : 1;
        c.strokeRect(x + inset, y + inset, size.cell - 2 * inset, size.cell - 2 * inset);
      }
    });
  }, [paint, width, height, cells, columns, every, pitch, size.cell, shot.states, at]);
  /** Which frame is under the pointer; of several one that failed, else the first. */
  const under = (e: MouseEvent) => {
    const place = canvas.current?.getBoundingClientRect();
    if (!place) return -1;
    const column = Math.floor((e.clientX - place.left) / pitch);
    const i = (Math.floor((e.clientY - place.top) / pitch) * columns + Math.min(column, columns - 1)) * every;
    const failed = shot.states.slice(i, i + every).indexOf("f");
    return i < shot.states.length ? i + Math.max(0, failed) : -1;
  };
  const pick = (i: number) => onPick(shot.shot, shot.numbers[i]);
  const move = (e: KeyboardEvent) => {
    const n = shot.numbers.length;
    const step = {
      ArrowRight: every,
      ArrowLeft: -every,
      ArrowDown: columns * every,
      ArrowUp: -columns * every,
      Home: -n,
      End: n,
    }[e.key];
    if (step === undefined) return;
    e.preventDefault();
    pick(Math.min(n - 1, Math.max(0, Math.max(0, at) + (at < 0 ? 0 : step))));
  };
  const said = (i: number) => (i < 0 ? "" : `frame ${shot.numbers[i]}, ${words[shot.states[i]]}`);
  return (
    <Box
      ref={box}
      role="listbox"
      aria-label={label}
      aria-activedescendant={at >= 0 ? id : undefined}
      tabIndex={0}
      rounded="sm"
      outlineOffset="4px"
      cursor="pointer"
      title={hint}
      onKeyDown={move}
      onClick={(e) => {
        const i = under(e);
        if (i >= 0) pick(i);
      }}
      onMouseMove={(e) => setHint(said(under(e)))}
    >
      <canvas ref={canvas} style={{ width, height, display: "block" }} aria-hidden />
      {/* What readers of screens are told: the frame that was chosen, of so many. */}
      <Box
        id={id}
        role="option"
        tabIndex={-1}
        aria-selected={at >= 0}
        aria-label={at >= 0 ? said(at) : "no frame is chosen"}
        aria-posinset={at + 1 || undefined}
        aria-setsize={shot.numbers.length}
        position="absolute"
        w="1px"
        h="1px"
        overflow="hidden"
      />
    </Box>
  );
});

const shapes: Record<string, object> = {
  done: { bg: "done" },
  rendering: { bg: "rendering" },
  waiting: { bg: "waiting" },
  failed: { bg: "transparent", borderWidth: "2px", borderColor: "failed" },
};

/** What the cells' looks mean. */
export function Legend({ counts }: { counts: Schemas["FrameCounts"] }) {
  return (
    <Flex columnGap="4" wrap="wrap" fontSize="sm" color="fg.muted">
      {(["done", "rendering", "waiting", "failed"] as const).map((s) => (
        <Flex key={s} align="center" gap="1.5">
          <Box w="11px" h="11px" rounded="3px" {...shapes[s]} />
          <Text>
            {counts[s].toLocaleString()} {s}
          </Text>
        </Flex>
      ))}
    </Flex>
  );
}
