import { Box, Flex, Text } from "@chakra-ui/react";
import { useRef, useState } from "react";
import { Knob } from "../parts/Knob";

/** Two pictures over each other with an edge to move between them, and a zoom that
 * keeps both at the same place. */
export function Overlay({ a, b, nameA, nameB }: { a: string; b: string; nameA: string; nameB: string }) {
  const [edge, setEdge] = useState(50);
  const [zoom, setZoom] = useState(1);
  const [at, setAt] = useState({ x: 50, y: 50 });
  const drag = useRef<{ x: number; y: number } | null>(null);
  const move = (dx: number, dy: number) =>
    setAt((old) => ({
      x: Math.min(100, Math.max(0, old.x + dx)),
      y: Math.min(100, Math.max(0, old.y + dy)),
    }));
  const picture = {
    position: "absolute",
    inset: 0,
    width: "100%",
    height: "100%",
    objectFit: "contain",
    imageRendering: zoom > 2 ? "pixelated" : "auto",
    transform: `scale(${zoom})`,
    transformOrigin: `${at.x}% ${at.y}%`,
  } as const;
  return (
    <Box maxW="860px">
      <Box
        position="relative"
        aspectRatio="16 / 9"
        bg="ink.950"
        rounded="md"
        overflow="hidden"
        cursor={zoom > 1 ? "grab" : "default"}
        tabIndex={0}
        role="group"
        aria-label={`${nameA} left of the edge, ${nameB} right of it. Arrow keys move the picture when zoomed.`}
        onKeyDown={(e) => {
          const step = { ArrowLeft: [-4, 0], ArrowRight: [4, 0], ArrowUp: [0, -4], ArrowDown: [0, 4] }[e.key];
          if (step) {
            e.preventDefault();
            move(step[0] ?? 0, step[1] ?? 0);
          }
        }}
        onPointerDown={(e) => {
          drag.current = { x: e.clientX, y: e.clientY };
          e.currentTarget.setPointerCapture(e.pointerId);
        }}
        onPointerMove={(e) => {
          if (!drag.current) return;
          const box = e.currentTarget.getBoundingClientRect();
          move(
            (-100 * (e.clientX - drag.current.x)) / (box.width * zoom),
            (-100 * (e.clientY - drag.current.y)) / (box.height * zoom),
          );
          drag.current = { x: e.clientX, y: e.clientY };
        }}
        onPointerUp={() => {
          drag.current = null;
        }}
      >
        <Box position="absolute" inset="0">
          <img src={b} alt={nameB} style={picture} draggable={false} />
        </Box>
        <Box position="absolute" inset="0" style={{ clipPath: `inset(0 ${100 - edge}% 0 0)` }}>
          <img src={a} alt={nameA} style={picture} draggable={false} />
        </Box>
        <Box position="absolute" top="0" bottom="0" left={`${edge}%`} w="2px" bg="#f6e7c8" pointerEvents="none" />
        <Label left>{nameA}</Label>
        <Label>{nameB}</Label>
      </Box>
      <Flex gap="8" mt="4">
        <Knob label="Edge" value={edge} min={0} max={100} step={1} onChange={setEdge} text={`${edge} %`} />
        <Knob label="Zoom" value={zoom} min={1} max={16} step={0.5} onChange={setZoom} text={`×${zoom}`} />
      </Flex>
    </Box>
  );
}

function Label({ left, children }: { left?: boolean; children: string }) {
  return (
    <Text
      position="absolute"
      bottom="2"
      {...(left ? { left: "2" } : { right: "2" })}
      px="2"
      py="0.5"
      rounded="sm"
      fontSize="sm"
      bg="rgba(14, 21, 29, 0.82)"
      color="#f4f1ea"
      pointerEvents="none"
    >
      {children}
    </Text>
  );
}
