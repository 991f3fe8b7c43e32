import { Box, Flex, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { length, moment, none } from "../parts/format";
import { List } from "../parts/List";
import { Sheet, State } from "../parts/Page";
import { WhyIdle } from "../parts/Verdicts";

type Crew = Schemas["RunCrew"];

function Doing({ crew }: { crew: Crew }) {
  if (crew.state !== "rendering")
    return (
      <Flex gap="2" title={crew.excluded}>
        <State>{crew.state}</State>
        {crew.excluded && <Text color="fg.muted">{crew.excluded}</Text>}
        {crew.state === "ready" && <WhyIdle host={crew.host} />}
      </Flex>
    );
  return (
    <Flex align="center" gap="3">
      <Box w="6rem" h="5px" bg="waiting" rounded="full" overflow="hidden" aria-hidden>
        <Box h="full" w={`${100 * (crew.progress ?? 0)}%`} bg="rendering" transition="width 0.5s" />
      </Box>
      <Text>
        {crew.shot} {crew.frame}, {Math.round(100 * (crew.progress ?? 0))} %
        {crew.more_in_start ? (
          <Text as="span" color="fg.muted" title="The renderer was started for these too: the scene is opened once">
            {" "}
            then {crew.more_in_start} more
          </Text>
        ) : null}
      </Text>
    </Flex>
  );
}

/** What every crew of the run is doing, and how it does against what was planned. */
export function Crews({ run }: { run: Schemas["Run"] }) {
  return (
    <Sheet title="Crews">
      <List
        label="Crews"
        rows={run.crews}
        keyOf={(c) => `${c.host}/${c.crew}`}
        columns={[
          { name: "Crew", cell: (c) => `${c.host}/${c.crew}` },
          { name: "Now", cell: (c) => <Doing crew={c} /> },
          { name: "Done", cell: (c) => c.done, right: true },
          { name: "Booked", cell: (c) => c.booked, right: true },
          { name: "A frame", cell: (c) => length(c.mean_s), right: true },
          { name: "Planned", cell: (c) => length(c.planned_s), right: true },
          {
            name: "Drift",
            cell: (c) =>
              c.mean_s && c.planned_s
                ? `${c.mean_s >= c.planned_s ? "+" : "−"}${Math.abs(Math.round(100 * (c.mean_s / c.planned_s - 1)))} %`
                : none,
            right: true,
          },
        ]}
      />
    </Sheet>
  );
}

export function Servers({ run }: { run: Schemas["Run"] }) {
  if (run.servers.length === 0) return null;
  return (
    <Sheet title="Rented servers">
      <List
        label="Rented servers"
        rows={run.servers}
        keyOf={(s) => s.id}
        columns={[
          { name: "Server", cell: (s) => s.host },
          { name: "State", cell: (s) => <State>{s.state}</State> },
          { name: "Planned from", cell: (s) => moment(s.from) },
          { name: "Planned to", cell: (s) => moment(s.to) },
          { name: "Asked for", cell: (s) => moment(s.started) },
          { name: "Ended", cell: (s) => moment(s.stopped) },
          { name: "Trouble", cell: (s) => s.trouble ?? none },
        ]}
      />
    </Sheet>
  );
}
