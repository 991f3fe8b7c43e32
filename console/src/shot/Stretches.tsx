import { Box, Flex, Grid, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { Sheet } from "../parts/Page";

/** Which parts of a shot are heavy: work of a frame beside a typical one. */
export function Stretches({ stretches }: { stretches: Schemas["Stretch"][] }) {
  const timed = stretches.filter((s) => s.frames > 0);
  const heaviest = Math.max(...stretches.map((s) => s.weight), 1.2);
  return (
    <Sheet title="Heavy and light stretches" aside="Work beside a typical frame.">
      {timed.length === 0 ? (
        <Text color="fg.muted">Time frames from across the shot to see which of it is heavy.</Text>
      ) : (
        <Grid templateColumns={`repeat(${stretches.length}, 1fr)`} gap="2" h="270px" alignItems="end">
          {stretches.map((s) => (
            <Flex key={s.from} direction="column" align="center" justify="flex-end" h="full" gap="1">
              <Text fontSize="sm">{s.frames > 0 ? `×${s.weight.toFixed(2)}` : "?"}</Text>
              <Box
                w="full"
                h={`${s.frames > 0 ? (70 * s.weight) / heaviest : 2}%`}
                bg={s.frames > 0 ? (s.weight > 1.1 ? "rendering" : "done") : "line"}
                rounded="sm"
              />
              <Text fontSize="xs" color="fg.muted" whiteSpace="nowrap">
                {s.from}–{s.to}
              </Text>
              <Text fontSize="xs" color="fg.muted" title="frames timed">
                {s.frames > 0 ? `n ${s.frames}` : "—"}
              </Text>
            </Flex>
          ))}
        </Grid>
      )}
    </Sheet>
  );
}
