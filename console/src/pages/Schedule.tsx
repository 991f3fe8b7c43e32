import { Box, Flex, Grid, Stack, Text, useBreakpointValue } from "@chakra-ui/react";
import { scaleTime } from "d3-scale";
import { useMemo } from "react";
import type { Schemas } from "../api/client";
import { isOver, useRuns, useSchedule, useScheduleChanges } from "../api/queries";
import { chance, count, moment, tick } from "../parts/format";
import { Go } from "../parts/Go";
import { Page, Sheet, State } from "../parts/Page";
import { colourAt } from "../parts/palette";
import { Empty, Shown } from "../parts/States";
import { movesText } from "../run/Schedule";

type Booking = Schemas["ScheduledBooking"];
type Run = Schemas["Run"];

type Crew = { place: string; crew: string; bookings: Booking[] };

/** What each crew has to do, by place and crew, in the order in which it comes. */
export function crewsOf(bookings: Booking[]): Crew[] {
  const out: Crew[] = [];
  for (const b of bookings) {
    const last = out.at(-1);
    if (last?.place === b.place && last.crew === b.crew) last.bookings.push(b);
    else out.push({ place: b.place, crew: b.crew, bookings: [b] });
  }
  return out;
}

/** Where the axis ends: after the last that happens, and the last deadline. */
export function endOf(now: string, bookings: Booking[], runs: Run[]): Date {
  const last = Math.max(
    Date.parse(now) + 15 * 60_000,
    ...bookings.map((b) => Date.parse(b.end)),
    ...runs.filter((r) => r.deadline).map((r) => Date.parse(r.deadline ?? "")),
  );
  return new Date(Math.round(Date.parse(now) + (last - Date.parse(now)) * 1.04));
}

/** The colour of a piece of work: its run's, or while one run is open its shot's. */
function colourOf(runs: Run[], b: { run: string; shot: string }): string {
  const at =
    runs.length === 1 ? runs[0].shots.findIndex((s) => s.shot === b.shot) : runs.findIndex((r) => r.id === b.run);
  return colourAt(at);
}

const Square = ({ colour }: { colour: string }) => <Box w="3" h="3" rounded="sm" bg={colour} flexShrink={0} />;

/** One run: how it stands, in the colour that its work has below. */
function RunLine({ run, runs }: { run: Run; runs: Run[] }) {
  const left = run.counts.waiting + run.counts.rendering;
  const last = useScheduleChanges(run.id, true).data?.find((x) => x.state === "made");
  return (
    <Flex asChild gap="3" rowGap="1" align="center" wrap="wrap">
      <li>
        {runs.length > 1 && <Square colour={colourOf(runs, { run: run.id, shot: "" })} />}
        <Go to={`/runs/${run.id}`}>{run.shots.map((s) => s.shot).join(", ")}</Go>
        {run.priority !== "normal" && <State>{run.priority}</State>}
        {run.state !== "running" && <State>{run.state}</State>}
        <Text color="fg.muted">
          {count(left, "frame")} left, due {moment(run.deadline)}
          {run.outlook?.chance !== undefined && `; ${chance(run.outlook.chance)} to be in time`}
          {run.outlook?.proposals ? "; a new schedule waits for you" : ""}
        </Text>
        {last && (
          <Text flexBasis="100%" pl={runs.length > 1 ? "6" : "0"} fontSize="sm" color="fg.muted">
            Planned anew {moment(last.at)}: {last.cause}. {count(last.moved, "frame")} of {last.frames} moved
            {last.moves.length > 0 && `: ${movesText(last.moves)}`}
          </Text>
        )}
      </li>
    </Flex>
  );
}

function Axis({ now, bookings, runs }: { now: string; bookings: Booking[]; runs: Run[] }) {
  const crews = useMemo(() => crewsOf(bookings), [bookings]);
  const end = endOf(now, bookings, runs);
  const axis = scaleTime()
    .domain([new Date(now), end])
    .range([0, 100]);
  const x = (t: string | Date) => axis(new Date(t));
  const many = crews.length > 24;
  const ticks = axis.ticks(useBreakpointValue({ base: 3, md: 8 }) ?? 8);
  return (
    <Grid
      templateColumns={{ base: "minmax(0, 1fr)", md: "minmax(9rem, auto) minmax(0, 1fr)" }}
      columnGap="4"
      rowGap={many ? "2px" : "1.5"}
      alignItems="center"
    >
      <Box display={{ base: "none", md: "block" }} />
      <Box position="relative" h="1.6rem" fontSize="xs" color="fg.muted" aria-hidden>
        {ticks.map((t) => (
          <Text key={+t} position="absolute" left={`${x(t)}%`} transform="translateX(-50%)" whiteSpace="nowrap">
            {tick(t, ticks)}
          </Text>
        ))}
      </Box>
      {crews.map((c) => (
        <Lane key={`${c.place}/${c.crew}`} crew={c} x={x} runs={runs} many={many} />
      ))}
    </Grid>
  );
}

function Lane({ crew, x, runs, many }: { crew: Crew; x: (t: string | Date) => number; runs: Run[]; many: boolean }) {
  const lost = crew.bookings.find((b) => b.lost)?.lost;
  return (
    <>
      <Text
        fontSize={many ? "xs" : "sm"}
        lineHeight="1.2"
        textAlign={{ md: "right" }}
        mt={{ base: "1", md: "0" }}
        color={lost ? "failed" : undefined}
      >
        {crew.place}
        <Text as="span" color="fg.muted">
          {" "}
          {crew.crew}
        </Text>
        {lost && ` ${lost}`}
      </Text>
      <Box position="relative" h={many ? "0.95rem" : "1.9rem"} bg="bg" rounded="sm" overflow="hidden">
        {crew.bookings.map((b) => (
          <Flex
            key={`${b.run}${b.shot}${b.start}${b.rendering}`}
            position="absolute"
            top="2px"
            bottom="2px"
            left={`${x(b.start)}%`}
            w={`${Math.max(0.3, x(b.end) - x(b.start))}%`}
            bg={b.lost ? "transparent" : colourOf(runs, b)}
            color={b.lost ? "fg" : "white"}
            outline={b.lost ? "1px dashed" : undefined}
            outlineOffset="-1px"
            borderTopWidth={b.rendering ? "3px" : "0"}
            borderTopColor="brass.fg"
            rounded="sm"
            align="center"
            px="1.5"
            fontSize="xs"
            overflow="hidden"
            whiteSpace="nowrap"
            borderRightWidth="1px"
            borderRightColor="bg"
            title={`${b.shot} on ${b.place}/${b.crew}: ${count(b.frames, "frame")}, ${b.rendering ? "rendering" : moment(b.start)} to ${moment(b.end)}`}
          >
            {!many && x(b.end) - x(b.start) > 12 && `${b.shot}, ${b.frames}`}
          </Flex>
        ))}
        {runs
          .filter((r) => r.deadline)
          .map((r) => (
            <Box
              key={r.id}
              position="absolute"
              left={`${x(r.deadline ?? "")}%`}
              top="0"
              bottom="0"
              borderLeftWidth="2px"
              borderColor="failed"
              title={`deadline ${moment(r.deadline)}`}
            />
          ))}
      </Box>
    </>
  );
}

/** All open runs on one axis of time. */
export function Schedule() {
  const schedule = useSchedule();
  const runs = useRuns(10);
  const open = (runs.data?.items ?? []).filter((r) => !isOver(r));
  return (
    <Page title="Schedule" lead="What every crew still has to do, by the times that are expected now">
      <Shown query={schedule}>
        {(x) =>
          x.bookings.length === 0 ? (
            <Empty title="No crew has work left">
              Start a plan, and what each crew has to do is shown here. <Go to="/plans">Plans</Go>
            </Empty>
          ) : (
            <Stack gap="5">
              <Sheet title="Open runs">
                <Stack asChild gap="2" listStyleType="none">
                  <ul>
                    {open.map((r) => (
                      <RunLine key={r.id} run={r} runs={open} />
                    ))}
                  </ul>
                </Stack>
              </Sheet>
              <Sheet title="Crews" aside={`from ${moment(x.now)}; red: a deadline, a bar on top: it renders now`}>
                <Axis now={x.now} bookings={x.bookings} runs={open} />
                {open.length === 1 && (
                  <Flex gap="5" mt="4" fontSize="sm" color="fg.muted" wrap="wrap">
                    {open[0].shots.map((s) => (
                      <Flex key={s.shot} align="center" gap="2">
                        <Square colour={colourOf(open, { run: open[0].id, shot: s.shot })} /> {s.shot}
                      </Flex>
                    ))}
                  </Flex>
                )}
              </Sheet>
            </Stack>
          )
        }
      </Shown>
    </Page>
  );
}
