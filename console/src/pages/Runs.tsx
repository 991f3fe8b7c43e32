import { Box, Button, Stack, Link as Styled, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { atOnce, isOver, useRuns } from "../api/queries";
import { moment, money } from "../parts/format";
import { type Column, List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { ShotNames } from "../parts/ShotNames";
import { Empty, Shown } from "../parts/States";

type Run = Schemas["Run"];

export const totalOf = (c: Schemas["FrameCounts"]) => c.waiting + c.rendering + c.done + c.failed;

/** How much of a run is done, as a bar and as numbers. */
export function Progress({ counts }: { counts: Schemas["FrameCounts"] }) {
  const all = Math.max(1, totalOf(counts));
  return (
    <Box display="flex" alignItems="center" gap="3">
      <Box display="flex" w="7rem" h="6px" bg="waiting" rounded="full" overflow="hidden" aria-hidden>
        <Box w={`${(100 * counts.done) / all}%`} bg="done" />
        <Box w={`${(100 * counts.rendering) / all}%`} bg="rendering" />
        <Box w={`${(100 * counts.failed) / all}%`} bg="failed" />
      </Box>
      <Text>
        {counts.done.toLocaleString()} of {totalOf(counts).toLocaleString()}
        {counts.failed > 0 && (
          <Text as="span" color="failed">
            , {counts.failed.toLocaleString()} failed
          </Text>
        )}
      </Text>
    </Box>
  );
}

const columns: Column<Run>[] = [
  {
    name: "Run",
    value: (r) => r.id.slice(0, 8),
    cell: (r) => (
      <Styled asChild color="brass.fg" fontWeight="medium">
        <Link to={`/runs/${r.id}`}>{r.id.slice(0, 8)}</Link>
      </Styled>
    ),
  },
  {
    name: "Shots",
    value: (r) => r.shots.map((s) => s.shot).join(" "),
    cell: (r) => <ShotNames shots={r.shots.map((s) => s.shot)} />,
  },
  {
    name: "State",
    value: (r) => r.state,
    cell: (r) => (
      <>
        <State>{r.state}</State>
        {!isOver(r) && (r.priority === "urgent" || r.priority === "low") && ` ${r.priority}`}
      </>
    ),
  },
  { name: "Frames done", value: (r) => r.counts.done, cell: (r) => <Progress counts={r.counts} /> },
  {
    name: "Cost so far",
    value: (r) => r.cost_so_far,
    cell: (r) => `${money(r.currency, r.cost_so_far)} of ${money(r.currency, r.planned_cost)}`,
    right: true,
  },
  {
    name: "Ended, or expected",
    value: (r) => r.ended ?? r.expected_finish,
    cell: (r) => moment(r.ended ?? r.expected_finish),
  },
  { name: "Deadline", value: (r) => r.deadline, cell: (r) => moment(r.deadline) },
];

/** Leads from the first machine to the first frame. */
const FirstShot = () => (
  <Button asChild>
    <Link to="/begin">First shot, in five steps</Link>
  </Button>
);

export function Runs() {
  const [hundreds, setHundreds] = useState(1);
  const runs = useRuns(hundreds);
  return (
    <Page title="Runs" lead="Plans being carried out, and those that were.">
      <Shown query={runs}>
        {({ items: all, more }) => {
          if (all.length === 0)
            return (
              <Empty title="No run yet" command="rotanex start PLAN" next={<FirstShot />}>
                A run is a plan that is carried out. Open one and start it; or go from the first machine to the first
                frame in five steps.
              </Empty>
            );
          const backlog = all.filter((r) => r.priority === "backlog");
          const due = all.filter((r) => r.priority !== "backlog");
          return (
            <Stack gap="6">
              {due.length > 0 && (
                <Sheet title={backlog.length > 0 ? "With a deadline" : undefined}>
                  <List label="Runs" rows={due} keyOf={(r) => r.id} columns={columns} />
                </Sheet>
              )}
              {backlog.length > 0 && (
                <Sheet title="Backlog" aside="no deadline: what crews render that would else be idle">
                  <List
                    label="Backlog"
                    rows={backlog}
                    keyOf={(r) => r.id}
                    columns={columns.filter((c) => c.name !== "Deadline")}
                  />
                </Sheet>
              )}
              {more && (
                <Button variant="outline" alignSelf="flex-start" onClick={() => setHundreds(hundreds + 1)}>
                  Show {atOnce} older runs
                </Button>
              )}
            </Stack>
          );
        }}
      </Shown>
    </Page>
  );
}
