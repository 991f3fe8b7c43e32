import { Box, Flex, Grid, Text } from "@chakra-ui/react";
import { scaleTime } from "d3-scale";
import type { Schemas } from "../api/client";
import { count, length, moment, timeOfDay } from "../parts/format";

type Plan = Schemas["Plan"];
type Booking = Schemas["PlannedBooking"];

/** A row of the time axis: one crew, with what it does when. */
type Row = { place: string; crew: string; source: string; bookings: Booking[]; server?: Schemas["PlannedServer"] };

export function rowsOf(plan: Plan): Row[] {
  const rows: Row[] = [];
  for (const b of plan.bookings ?? []) {
    let row = rows.find((r) => r.place === b.place && r.crew === b.crew);
    if (!row) {
      const server = plan.servers?.find((s) => s.id === b.place);
      row = { place: b.place, crew: b.crew, source: b.source ?? "", bookings: [], server };
      rows.push(row);
    }
    row.bookings.push(b);
  }
  return rows.sort(
    (a, b) => a.source.localeCompare(b.source) || a.place.localeCompare(b.place) || a.crew.localeCompare(b.crew),
  );
}

const shotColours = ["#2b7f76", "#8a5f1d", "#4f6d94", "#8a4a5a", "#5c7a3a", "#6b5a94", "#3d7f98", "#94663f"];

/** Bookings on a time axis, by host and server, with leads, what is paid but not
 * used, and the deadline. */
export function Timeline({ plan }: { plan: Plan }) {
  const rows = rowsOf(plan);
  const ends = [plan.finish, plan.deadline ?? plan.finish, ...(plan.servers ?? []).map((s) => s.to)];
  const start = new Date(plan.start);
  const end = new Date(Math.max(...ends.map((t) => Date.parse(t))));
  const axis = scaleTime()
    .domain([start, new Date(end.getTime() + (end.getTime() - start.getTime()) * 0.03)])
    .range([0, 100]);
  const ticks = axis.ticks(8);
  const x = (t: string | Date) => axis(new Date(t));
  const colour = (shot: string) => shotColours[Math.max(0, plan.shots.indexOf(shot)) % shotColours.length];
  return (
    <Box>
      <Grid templateColumns="minmax(9rem, auto) 1fr" columnGap="4" rowGap="1.5" alignItems="center">
        <Box />
        <Box position="relative" h="1.4rem" fontSize="xs" color="fg.muted">
          {ticks.map((t) => (
            <Text key={+t} position="absolute" left={`${x(t)}%`} transform="translateX(-50%)" whiteSpace="nowrap">
              {timeOfDay(t)}
            </Text>
          ))}
        </Box>
        {rows.map((row) => (
          <TimelineRow
            key={`${row.place}/${row.crew}`}
            row={row}
            x={x}
            colour={colour}
            ticks={ticks}
            deadline={plan.deadline}
          />
        ))}
      </Grid>
      <Flex gap="5" mt="4" fontSize="sm" color="fg.muted" wrap="wrap">
        {plan.shots.map((s) => (
          <Flex key={s} align="center" gap="2">
            <Box w="3" h="3" rounded="sm" bg={colour(s)} /> {s}
          </Flex>
        ))}
        {(plan.servers?.length ?? 0) > 0 && (
          <Flex align="center" gap="2">
            <Box w="3" h="3" rounded="sm" borderWidth="1px" borderColor="fg.muted" borderStyle="dashed" /> paid, not
            rendering
          </Flex>
        )}
        <Flex align="center" gap="2">
          <Box w="0" h="3.5" borderLeftWidth="2px" borderColor="failed" /> deadline {moment(plan.deadline)}
        </Flex>
      </Flex>
    </Box>
  );
}

type RowProps = {
  row: Row;
  x: (t: string | Date) => number;
  colour: (shot: string) => string;
  ticks: Date[];
  deadline?: string;
};

function TimelineRow({ row, x, colour, ticks, deadline }: RowProps) {
  const paidEnd = row.server && new Date(Date.parse(row.server.from) + row.server.billed_s * 1000);
  return (
    <>
      <Text fontSize="sm" whiteSpace="nowrap" textAlign="right">
        {row.place}
        <Text as="span" color="fg.muted">
          {" "}
          {row.crew}
        </Text>
      </Text>
      <Box position="relative" h="1.9rem" bg="bg" rounded="sm" overflow="hidden">
        {ticks.map((t) => (
          <Box
            key={+t}
            position="absolute"
            left={`${x(t)}%`}
            top="0"
            bottom="0"
            borderLeftWidth="1px"
            borderColor="line"
          />
        ))}
        {row.server && paidEnd && (
          <Box
            position="absolute"
            top="3px"
            bottom="3px"
            left={`${x(row.server.from)}%`}
            w={`${Math.min(100, x(paidEnd)) - x(row.server.from)}%`}
            borderWidth="1px"
            borderStyle="dashed"
            borderColor="fg.muted"
            rounded="sm"
            title={`${row.server.id}: paid for ${length(row.server.billed_s)} from ${moment(row.server.from)}`}
          />
        )}
        {row.bookings.map((b) => (
          <Flex
            key={`${b.shot}${b.start}`}
            position="absolute"
            top="3px"
            bottom="3px"
            left={`${x(b.start)}%`}
            w={`${x(b.end) - x(b.start)}%`}
            bg={colour(b.shot)}
            color="white"
            rounded="sm"
            align="center"
            px="2"
            fontSize="xs"
            overflow="hidden"
            whiteSpace="nowrap"
            title={`${b.shot} on ${b.place}/${b.crew}: ${count(b.frames, "frame")}, ${moment(b.start)} to ${moment(b.end)}`}
          >
            {count(b.frames, "frame")}
          </Flex>
        ))}
        {deadline && (
          <Box
            position="absolute"
            left={`${x(deadline)}%`}
            top="0"
            bottom="0"
            borderLeftWidth="2px"
            borderColor="failed"
          />
        )}
      </Box>
    </>
  );
}
