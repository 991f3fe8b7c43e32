import { Box, Button, Flex, Grid, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answered, client, type Schemas } from "../api/client";
import { isOver, useScheduleChanges } from "../api/queries";
import { Choice } from "../parts/Choice";
import { count, moment, money } from "../parts/format";
import { Go } from "../parts/Go";
import { Sheet, State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Failed } from "../parts/States";

type Run = Schemas["Run"];
type Change = Schemas["ScheduleChange"];

const beyond = (x: Change) => (Number(x.more) > 0 ? `for ${money(x.currency, x.more)} more than the run may cost` : "");

/** Who has more frames by a change and who less, the most first: "eddy g0 −24, dory g0 +14". */
export function movesText(moves: Change["moves"], most = 6): string {
  const byCrew = new Map<string, number>();
  for (const m of moves) {
    const crew = [m.place, m.crew].filter(Boolean).join(" ");
    byCrew.set(crew, (byCrew.get(crew) ?? 0) + m.frames);
  }
  const said = [...byCrew]
    .filter(([, n]) => n !== 0)
    .sort((a, b) => Math.abs(b[1]) - Math.abs(a[1]))
    .map(([crew, n]) => `${crew} ${n > 0 ? "+" : "−"}${Math.abs(n)}`);
  return said.length > most ? `${said.slice(0, most).join(", ")} and ${said.length - most} more` : said.join(", ");
}

/** A new schedule that waits for a person. */
function Proposal({ run, change }: { run: Run; change: Change }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const decide = useMutation({
    mutationFn: (accept: boolean) =>
      answered(
        client.PUT("/runs/{run}/changes/{change}", {
          params: { path: { run: run.id, change: change.id } },
          body: { accept },
        }),
      ),
    onSettled: () => cache.invalidateQueries({ queryKey: ["runs"] }),
  });
  return (
    <Sheet title="A new schedule is proposed" aside={moment(change.at)}>
      <Stack gap="3">
        <Text>
          {change.gain} {beyond(change)}: {count(change.moved, "frame")} of {change.frames} would move, and the rest
          would cost {money(change.currency, change.cost_after)} instead of {money(change.currency, change.cost_before)}
          .
        </Text>
        <Text color="fg.muted">Why: {change.cause}.</Text>
        <Flex gap="3" align="center" wrap="wrap">
          {mayWrite && (
            <>
              <Button loading={decide.isPending} onClick={() => decide.mutate(true)}>
                {Number(change.more) > 0 ? `Accept, and allow ${money(change.currency, change.more)} more` : "Accept"}
              </Button>
              <Button variant="outline" loading={decide.isPending} onClick={() => decide.mutate(false)}>
                Decline
              </Button>
            </>
          )}
          <Go to={`/plans/${change.plan}`}>Look at its plan</Go>
        </Flex>
        {decide.error && <Failed error={decide.error} />}
      </Stack>
    </Sheet>
  );
}

/** What of a run's schedule waits for a person. */
export function Proposals({ run }: { run: Run }) {
  const changes = useScheduleChanges(run.id, !isOver(run));
  if (isOver(run)) return null;
  return changes.data?.filter((x) => x.state === "proposed").map((x) => <Proposal key={x.id} run={run} change={x} />);
}

/** Gives what is left back to the crews that had it before a change. */
function Undo({ x }: { x: Change }) {
  const cache = useQueryClient();
  const undo = useMutation({
    mutationFn: () =>
      answered(
        client.PUT("/runs/{run}/changes/{change}", {
          params: { path: { run: x.run, change: x.id } },
          body: { accept: false },
        }),
      ),
    onSettled: () => cache.invalidateQueries({ queryKey: ["runs"] }),
  });
  return (
    <Box>
      <Button size="xs" variant="outline" loading={undo.isPending} onClick={() => undo.mutate()}>
        Undo
      </Button>
      {undo.error && <Failed error={undo.error} />}
    </Box>
  );
}

/** One change: what it brought, why, and what moved. */
function ChangeRow({ x, last }: { x: Change; last: boolean }) {
  return (
    <Grid
      asChild
      templateColumns={{ base: "1fr", md: "9.5rem minmax(0, 1fr) auto" }}
      gap={{ base: "1", md: "5" }}
      py="3"
      borderTopWidth="1px"
      borderColor="line"
    >
      <li>
        <Stack gap="1" align="flex-start">
          <Text>{moment(x.at)}</Text>
          <State>{x.state}</State>
        </Stack>
        <Stack gap="1">
          <Text fontWeight="medium">{[x.gain, beyond(x)].filter(Boolean).join(" ")}</Text>
          <Text color="fg.muted">Why: {x.cause}</Text>
          {x.moves.length > 0 && <Text color="fg.muted">{movesText(x.moves)}</Text>}
        </Stack>
        <Stack gap="1" textAlign={{ md: "right" }}>
          <Text>
            {x.moved} of {count(x.frames, "frame")} moved; <Go to={`/plans/${x.plan}`}>plan {x.plan.slice(0, 8)}</Go>
          </Text>
          <Text color="fg.muted">
            the rest for {money(x.currency, x.cost_after)}, was {money(x.currency, x.cost_before)}
            {x.decided_by && `; by ${x.decided_by}`}
          </Text>
          {last && <Undo x={x} />}
        </Stack>
      </li>
    </Grid>
  );
}

/** How a run was planned anew while it ran. */
export function Changes({ run }: { run: Run }) {
  const changes = useScheduleChanges(run.id, !isOver(run));
  const mayWrite = useMayWrite();
  if (!changes.data?.length) return null;
  const made = !isOver(run) && mayWrite ? changes.data.find((x) => x.state === "made") : undefined;
  return (
    <Sheet title="Planned anew" aside="what was left of the run, newest first">
      <Box asChild listStyleType="none">
        <ol aria-label="Changes of the schedule">
          {changes.data.map((x) => (
            <ChangeRow key={x.id} x={x} last={x === made} />
          ))}
        </ol>
      </Box>
    </Sheet>
  );
}

/** How far a run is planned anew by itself. */
export function Policy({ run }: { run: Run }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const set = useMutation({
    mutationFn: (policy: Run["policy"]) =>
      answered(client.PUT("/runs/{run}/policy", { params: { path: { run: run.id } }, body: { policy } })),
    onSettled: () => cache.invalidateQueries({ queryKey: ["runs"] }),
  });
  if (isOver(run)) return null;
  if (!mayWrite) return <Text color="fg.muted">Planned anew: {run.policy}</Text>;
  return (
    <Stack gap="2">
      <Choice
        label="Plan anew"
        value={set.isPending && set.variables ? set.variables : run.policy}
        options={["auto", "ask", "off"]}
        onChange={(p) => set.mutate(p)}
      />
      {set.error && <Failed error={set.error} />}
    </Stack>
  );
}
