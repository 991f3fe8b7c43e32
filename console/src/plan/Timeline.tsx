import { Box, Flex, Grid, Text } from "@chakra-ui/react";
import { scaleTime } from "d3-scale";
import { memo, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { count, length, moment, tick } from "../parts/format";
import { colourAt } from "../parts/palette";
import { axisEnd, type Row, rowsOf, shut } from "./axis";

type Plan = Schemas["Plan"];

/** So many shots are named below the axis. */
const manyShots = 40;

/** Beyond so many rows they are drawn low and without words. */
const manyRows = 24;

/** Bookings on a time axis, by host and server, with leads, uploads, the hours in which
 * a host is not free, what is paid but not used, and the deadline. With onDeadline the
 * deadline can be moved, by hand or with the arrow keys. */
export function Timeline({ plan, onDeadline }: { plan: Plan; onDeadline?: (at: Date) => void }) {
  const rows = rowsOf(plan);
  const end = axisEnd(plan);
  const axis = scaleTime()
    .domain([new Date(plan.start), end])
    .range([0, 100]);
  const ticks = axis.ticks(8);
  const x = (t: string | Date) => axis(new Date(t));
  const colour = (shot: string) => colourAt(plan.shots.indexOf(shot));
  const many = rows.length > manyRows;
  return (
    <Box>
      <Grid
        templateColumns="minmax(9rem, auto) 1fr"
        columnGap="4"
        rowGap={many ? "2px" : "1.5"}
        alignItems="center"
        position="relative"
      >
        <Box />
        <Box position="relative" h="1.6rem" fontSize="xs" color="fg.muted">
          {ticks.map((t, i) => (
            <Text
              key={+t}
              display={{ base: i % 4 === 0 ? "block" : "none", md: "block" }}
              position="absolute"
              left={`${x(t)}%`}
              transform="translateX(-50%)"
              whiteSpace="nowrap"
            >
              {tick(t, ticks)}
            </Text>
          ))}
        </Box>
        {(plan.uploads?.length ?? 0) > 0 && <Uploads plan={plan} x={x} colour={colour} />}
        {rows.map((row) => (
          <TimelineRow
            key={`${row.place}/${row.crew}`}
            row={row}
            closed={shut(plan, row.place, end)}
            x={x}
            colour={colour}
            ticks={ticks}
            deadline={plan.deadline}
            many={many}
          />
        ))}
        {onDeadline && plan.deadline && <DeadlineHandle plan={plan} end={end} onDeadline={onDeadline} />}
      </Grid>
      <Flex gap="5" mt="4" fontSize="sm" color="fg.muted" wrap="wrap">
        {plan.shots.slice(0, manyShots).map((s) => (
          <Flex key={s} align="center" gap="2">
            <Box w="3" h="3" rounded="sm" bg={colour(s)} /> {s}
          </Flex>
        ))}
        {plan.shots.length > manyShots && <Text>and {count(plan.shots.length - manyShots, "more shot")}</Text>}
        {(plan.servers?.length ?? 0) > 0 && (
          <Flex align="center" gap="2">
            <Box w="3" h="3" rounded="sm" borderWidth="1px" borderColor="fg.muted" borderStyle="dashed" /> paid, not
            rendering
          </Flex>
        )}
        {(plan.hours?.length ?? 0) > 0 && (
          <Flex align="center" gap="2">
            <Box w="3" h="3" rounded="sm" bg="line" /> not free
          </Flex>
        )}
        <Flex align="center" gap="2">
          <Box w="0" h="3.5" borderLeftWidth="2px" borderColor="failed" /> deadline {moment(plan.deadline)}
        </Flex>
      </Flex>
    </Box>
  );
}

type Scale = { x: (t: string | Date) => number; colour: (shot: string) => string };

/** What is sent to rented sources, one after another. */
function Uploads({ plan, x, colour }: Scale & { plan: Plan }) {
  return (
    <>
      <Text fontSize="sm" textAlign="right" color="fg.muted">
        uploads
      </Text>
      <Box position="relative" h="1rem">
        {plan.uploads?.map((u) => (
          <Box
            key={`${u.shot}${u.source}`}
            position="absolute"
            top="2px"
            bottom="2px"
            left={`${x(u.start)}%`}
            w={`${Math.max(0.3, x(u.end) - x(u.start))}%`}
            bg={colour(u.shot)}
            opacity="0.6"
            rounded="sm"
            title={`${u.shot} is sent to ${u.source}, ${moment(u.start)} to ${moment(u.end)}`}
          />
        ))}
      </Box>
    </>
  );
}

/** Moves the deadline: a drag, or the arrow keys in steps of a quarter of an hour. */
function DeadlineHandle({ plan, end, onDeadline }: { plan: Plan; end: Date; onDeadline: (at: Date) => void }) {
  const lane = useRef<HTMLDivElement>(null);
  const start = Date.parse(plan.start);
  const span = end.getTime() - start;
  const [at, setAt] = useState<number>();
  const now = at ?? Date.parse(plan.deadline ?? plan.finish);
  const quarter = 15 * 60_000;
  const whole = (t: number) => Math.min(end.getTime(), Math.max(start + 60_000, Math.round(t / 60_000) * 60_000));
  const from = (clientX: number) => {
    const box = lane.current?.getBoundingClientRect();
    return box ? whole(start + ((clientX - box.left) / box.width) * span) : now;
  };
  return (
    <>
      <Box />
      <Box position="relative" h="1.9rem" ref={lane}>
        <Box
          role="slider"
          tabIndex={0}
          aria-label="Deadline: move it to plan again"
          aria-valuemin={start}
          aria-valuemax={end.getTime()}
          aria-valuenow={now}
          aria-valuetext={moment(new Date(now))}
          position="absolute"
          left={`${((now - start) / span) * 100}%`}
          transform={`translateX(-${((now - start) / span) * 100}%)`}
          top="4px"
          px="2"
          fontSize="xs"
          lineHeight="1.4rem"
          rounded="sm"
          bg="failed"
          color="bg"
          cursor="ew-resize"
          whiteSpace="nowrap"
          touchAction="none"
          onPointerDown={(e) => e.currentTarget.setPointerCapture(e.pointerId)}
          onPointerMove={(e) => e.currentTarget.hasPointerCapture(e.pointerId) && setAt(from(e.clientX))}
          onPointerUp={(e) => {
            e.currentTarget.releasePointerCapture(e.pointerId);
            if (at) onDeadline(new Date(at));
          }}
          onKeyDown={(e) => {
            const step = { ArrowLeft: -quarter, ArrowRight: quarter }[e.key];
            if (step) {
              e.preventDefault();
              setAt(whole(now + step));
            }
            if (e.key === "Enter" && at) onDeadline(new Date(at));
            if (e.key === "Escape") setAt(undefined);
          }}
        >
          ‹ {moment(new Date(now))} ›
        </Box>
      </Box>
    </>
  );
}

type RowProps = Scale & {
  row: Row;
  closed: { from: Date; to: Date }[];
  ticks: Date[];
  deadline?: string;
  many: boolean;
};

const TimelineRow = memo(function TimelineRow({ row, closed, x, colour, ticks, deadline, many }: RowProps) {
  const paidEnd = row.server && new Date(Date.parse(row.server.from) + row.server.billed_s * 1000);
  return (
    <>
      <Text fontSize={many ? "xs" : "sm"} lineHeight="1.2" whiteSpace="nowrap" textAlign="right">
        {row.place}
        <Text as="span" color="fg.muted">
          {" "}
          {row.crew}
        </Text>
      </Text>
      <Box position="relative" h={many ? "0.95rem" : "1.9rem"} bg="bg" rounded="sm" overflow="hidden">
        {closed.map((c) => (
          <Box
            key={+c.from}
            position="absolute"
            top="0"
            bottom="0"
            left={`${x(c.from)}%`}
            w={`${x(c.to) - x(c.from)}%`}
            bg="line"
            title={`${row.place} is not free, ${moment(c.from)} to ${moment(c.to)}`}
          />
        ))}
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
            top={many ? "1px" : "3px"}
            bottom={many ? "1px" : "3px"}
            left={`${x(b.start)}%`}
            w={`${x(b.end) - x(b.start)}%`}
            bg={colour(b.shot)}
            color="white"
            rounded="sm"
            align="center"
            px={many ? "1" : "2"}
            fontSize="xs"
            overflow="hidden"
            whiteSpace="nowrap"
            title={`${b.shot} on ${b.place}/${b.crew}: ${count(b.frames, "frame")}, ${moment(b.start)} to ${moment(b.end)}`}
          >
            {!many && x(b.end) - x(b.start) > 7 && count(b.frames, "frame")}
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
});
