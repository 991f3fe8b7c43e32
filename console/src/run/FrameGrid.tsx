import { Box, Flex, Text } from "@chakra-ui/react";
import { type KeyboardEvent, memo, useId, useRef, useState } from "react";
import type { Schemas } from "../api/client";

type Frame = Schemas["Frame"];

const shapes: Record<Frame["state"], object> = {
  waiting: { bg: "waiting" },
  rendering: {
    bg: "rendering",
    animation: "pulse 1.6s ease-in-out infinite",
    css: { "@media (prefers-reduced-motion: reduce)": { animation: "none" } },
  },
  done: { bg: "done" },
  failed: { bg: "transparent", borderWidth: "2px", borderColor: "failed" },
};

export const stateWords: Record<Frame["state"], string> = {
  waiting: "waiting",
  rendering: "rendering",
  done: "done",
  failed: "failed",
};

const Cell = memo(function Cell({
  frame,
  id,
  chosen,
  onPick,
}: {
  frame: Frame;
  id: string;
  chosen: boolean;
  onPick: (f: Frame) => void;
}) {
  return (
    // The list box takes the keys; a mouse may pick a cell directly.
    <Box
      id={id}
      role="option"
      tabIndex={-1}
      aria-selected={chosen}
      aria-label={`frame ${frame.frame}, ${stateWords[frame.state]}${frame.failures ? `, failed ${frame.failures} times` : ""}`}
      title={`${frame.frame}: ${stateWords[frame.state]}`}
      w="15px"
      h="15px"
      rounded="3px"
      cursor="pointer"
      outline={chosen ? "2px solid" : undefined}
      outlineColor="fg"
      outlineOffset="1px"
      onClick={() => onPick(frame)}
      {...shapes[frame.state]}
    />
  );
});

/** Every frame of a shot as a cell. One stop for the tab key; arrows move about. */
export function FrameGrid({
  label,
  frames,
  chosen,
  onPick,
}: {
  label: string;
  frames: Frame[];
  chosen?: Frame;
  onPick: (f: Frame) => void;
}) {
  const base = useId();
  const box = useRef<HTMLDivElement>(null);
  const [focused, setFocused] = useState(false);
  const at = frames.findIndex((f) => f.frame === chosen?.frame && f.shot === chosen?.shot);
  const move = (e: KeyboardEvent) => {
    const columns = Math.max(1, Math.floor((box.current?.clientWidth ?? 18) / 18));
    const step = {
      ArrowRight: 1,
      ArrowLeft: -1,
      ArrowDown: columns,
      ArrowUp: -columns,
      Home: -frames.length,
      End: frames.length,
    }[e.key];
    if (step === undefined) return;
    e.preventDefault();
    onPick(frames[Math.min(frames.length - 1, Math.max(0, Math.max(0, at) + (at < 0 ? 0 : step)))]);
  };
  return (
    <Flex
      ref={box}
      role="listbox"
      aria-label={label}
      aria-activedescendant={at >= 0 ? `${base}${at}` : undefined}
      tabIndex={0}
      wrap="wrap"
      gap="3px"
      rounded="sm"
      outlineOffset="4px"
      onKeyDown={move}
      onFocus={() => setFocused(true)}
      onBlur={() => setFocused(false)}
      data-focused={focused}
    >
      {frames.map((f, i) => (
        <Cell key={f.frame} id={`${base}${i}`} frame={f} chosen={i === at} onPick={onPick} />
      ))}
    </Flex>
  );
}

/** What the cells' looks mean. */
export function Legend({ counts }: { counts: Schemas["FrameCounts"] }) {
  return (
    <Flex columnGap="4" wrap="wrap" fontSize="sm" color="fg.muted">
      {(["done", "rendering", "waiting", "failed"] as const).map((s) => (
        <Flex key={s} align="center" gap="1.5">
          <Box w="11px" h="11px" rounded="3px" {...shapes[s]} animation="none" />
          <Text>
            {counts[s]} {stateWords[s]}
          </Text>
        </Flex>
      ))}
    </Flex>
  );
}
