import { Box, Grid, Stack, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { Sheet } from "../parts/Page";

type Division = Schemas["HostDivision"];

const few = 4;

/** Crews in few words: 4 × one GPU is told by its members. */
const crewsText = (crews: string[]) =>
  crews.length === 1 ? `one crew: ${crews[0]}` : `${crews.length} crews: ${crews.join(" · ")}`;

/** The best ways, and with them always the one crew of all and the crews of one. */
function shown(d: Division) {
  const gpus = (crews: string[]) => crews.filter((c) => c !== "cpu");
  const telling = d.ways.filter(
    (w, i) => i < few - 1 || (w.crews.length === 1 && w.idle.length === 0 && !w.crews[0]?.includes("cpu")),
  );
  return telling.filter((w) => gpus(w.crews).length > 0).slice(0, few);
}

function Place({ d }: { d: Division }) {
  const most = d.ways[0]?.frames_hour ?? 1;
  const limits = [
    `${d.cores} cores`,
    d.renderers && d.renderers < 1000 ? `memory for ${d.renderers} renderers` : undefined,
  ].filter(Boolean);
  return (
    <Sheet title={d.place} aside={limits.join(", ")}>
      <Stack gap="2.5">
        {shown(d).map((w, i) => (
          <Box key={w.crews.join()}>
            <Grid templateColumns="1fr auto" gap="3" fontSize="sm">
              <Text fontWeight={i === 0 ? "semibold" : undefined}>{crewsText(w.crews)}</Text>
              <Text fontWeight={i === 0 ? "semibold" : undefined}>{Math.round(w.frames_hour)} frames/h</Text>
            </Grid>
            <Box h="6px" rounded="full" bg="bg" mt="1" aria-hidden>
              <Box h="full" rounded="full" w={`${(100 * w.frames_hour) / most}%`} bg={i === 0 ? "done" : "ink.400"} />
            </Box>
            {(w.limited || w.idle.length > 0) && (
              <Text fontSize="xs" color="fg.muted" mt="0.5">
                {[w.idle.length > 0 && `idle: ${w.idle.join(", ")}`, w.limited].filter(Boolean).join("; ")}
              </Text>
            )}
          </Box>
        ))}
      </Stack>
      {d.break_even?.text && (
        <Text fontSize="sm" color="fg.muted" mt="3" pt="3" borderTopWidth="1px" borderColor="line">
          {d.break_even.large} against {d.break_even.small}: {d.break_even.text}.
        </Text>
      )}
    </Sheet>
  );
}

/** How to divide each host into crews for the shot. */
export function Divisions({ divisions }: { divisions: Division[] }) {
  if (divisions.length === 0) return null;
  return (
    <Box>
      <Text as="h2" fontSize="md" fontWeight="semibold" mb="3">
        How to divide each host{" "}
        <Text as="span" color="fg.muted" fontWeight="normal" fontSize="sm">
          frames an hour of each way, the best first
        </Text>
      </Text>
      <Grid templateColumns="repeat(auto-fill, minmax(360px, 1fr))" gap="4">
        {divisions.map((d) => (
          <Place key={d.place} d={d} />
        ))}
      </Grid>
    </Box>
  );
}
