import { Box, Button, Flex, Grid, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { memo, useEffect, useMemo, useRef, useState } from "react";
import { useParams } from "react-router";
import { answered, client, type Schemas } from "../api/client";
import { isOver, pictureURL, useFrameMap, useRun } from "../api/queries";
import { Choice } from "../parts/Choice";
import { chance, count, drift, length, moment, money, near, none } from "../parts/format";
import { Figure, Page, Sheet, State } from "../parts/Page";
import { Preview } from "../parts/Preview";
import { DoneTo } from "../parts/Records";
import { useMayWrite } from "../parts/role";
import { Failed, Shown } from "../parts/States";
import { Crews, Servers } from "../run/Crews";
import { Deadline } from "../run/Deadline";
import { FarmJobs, Waiting } from "../run/FarmJobs";
import { FrameDetail } from "../run/FrameDetail";
import { Failures, Frames, Marked, type Picked } from "../run/Frames";
import { counted, type FrameMap, indexOf, numbersOf, words } from "../run/framemap";
import { Ledger } from "../run/Ledger";
import { Over } from "../run/Over";
import { PlanRest, Stranded } from "../run/Rest";
import { Results } from "../run/Results";
import { Changes, Policy, Proposals } from "../run/Schedule";
import { totalOf } from "./Runs";

type Run = Schemas["Run"];
type Frame = Schemas["Frame"];

function Controls({ run }: { run: Run }) {
  const cache = useQueryClient();
  const [sure, setSure] = useState(false);
  const set = useMutation({
    mutationFn: (state: "running" | "paused" | "cancelled") =>
      answered(client.PUT("/runs/{run}/state", { params: { path: { run: run.id } }, body: { state } })),
    onSettled: () => {
      setSure(false);
      cache.invalidateQueries({ queryKey: ["runs"] });
    },
  });
  if (run.state === "incomplete")
    return (
      <Stack align="flex-end">
        <Button loading={set.isPending} onClick={() => set.mutate("running")}>
          Try {count(run.counts.failed, "failed frame")} again
        </Button>
        {set.error && <Failed error={set.error} />}
      </Stack>
    );
  if (isOver(run)) return null;
  return (
    <Stack align="flex-end">
      <HStack align="start">
        {run.counts.waiting > 0 && !run.stranded?.length && <PlanRest run={run} />}
        <Button
          variant="outline"
          loading={set.isPending}
          onClick={() => set.mutate(run.state === "paused" ? "running" : "paused")}
        >
          {run.state === "paused" ? "Resume" : "Pause"}
        </Button>
        {sure ? (
          <>
            <Button colorPalette="red" onClick={() => set.mutate("cancelled")}>
              Yes, cancel the run
            </Button>
            <Button variant="ghost" onClick={() => setSure(false)}>
              No
            </Button>
          </>
        ) : (
          <Button variant="outline" onClick={() => setSure(true)}>
            Cancel…
          </Button>
        )}
      </HStack>
      {set.error && <Failed error={set.error} />}
    </Stack>
  );
}

/** Which of several runs comes first on a host. */
function Priority({ run }: { run: Run }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const set = useMutation({
    mutationFn: (body: { priority: Run["priority"]; now?: boolean }) =>
      answered(client.PUT("/runs/{run}/priority", { params: { path: { run: run.id } }, body })),
    onSettled: () => cache.invalidateQueries({ queryKey: ["runs"] }),
  });
  if (isOver(run)) return null;
  if (!mayWrite) return <Text color="fg.muted">Priority: {run.priority}</Text>;
  return (
    <Stack gap="2">
      <HStack align="end">
        <Choice
          label="Priority"
          value={set.isPending && set.variables ? set.variables.priority : run.priority}
          options={["urgent", "normal", "low", "backlog"]}
          onChange={(priority) => set.mutate({ priority })}
        />
        {run.priority === "urgent" && run.counts.waiting > 0 && (
          <Button
            variant="outline"
            title="What less urgent runs render on its devices is given back, and waits again"
            disabled={set.isSuccess && set.variables.now}
            onClick={() => set.mutate({ priority: "urgent", now: true })}
          >
            Take its devices now
          </Button>
        )}
      </HStack>
      {set.error && <Failed error={set.error} />}
    </Stack>
  );
}

/** From this share of failed frames on a run that goes on asks for a hand by its number alone. */
const failedMuch = 0.02;

function Figures({ run }: { run: Run }) {
  const finish = run.ended ?? run.expected_finish;
  const against = finish && run.deadline ? drift(finish, run.deadline) : undefined;
  const all = totalOf(run.counts);
  const rate = (n: number) => Math.round(n).toLocaleString();
  return (
    <Grid templateColumns={{ base: "repeat(2, 1fr)", md: "1.3fr 1.25fr 0.8fr 0.9fr" }} gap="5">
      <Figure
        label={run.ended ? "Ended" : `Expected finish, ${length(run.left_s)} left`}
        value={moment(finish)}
        beside={[
          !isOver(run) &&
            run.deadline &&
            run.outlook?.chance !== undefined &&
            `${chance(run.outlook.chance)} to be in time${run.outlook.may_let ? `, with up to ${money(run.currency, run.outlook.may_let)} more` : ""}`,
          against
            ? `${against.text}; deadline ${moment(run.deadline)}`
            : `${run.deadline ? "" : "no deadline; "}planned ${moment(run.planned_finish)}`,
          !isOver(run) &&
            run.outlook?.kept_finish?.p90 &&
            `half of earlier runs would end by ${near(run.outlook.kept_finish.p50, finish)}, nine in ten by ${near(run.outlook.kept_finish.p90, finish)}`,
        ]
          .filter(Boolean)
          .join("; ")}
        alarm={against?.late}
      />
      <Figure
        label="Frames done"
        value={`${run.counts.done.toLocaleString()} of ${all.toLocaleString()}`}
        beside={
          run.counts.failed
            ? `${run.counts.failed.toLocaleString()} failed for good`
            : `${Math.floor((100 * run.counts.done) / Math.max(1, all))} %`
        }
        alarm={isOver(run) ? run.counts.failed > 0 : run.counts.failed > failedMuch * all}
      />
      <Figure
        label="Frames an hour"
        value={run.frames_hour ? rate(run.frames_hour) : none}
        beside={isOver(run) ? "towards the end" : `the plan has ${rate(run.planned_frames_hour)} now`}
      />
      <Figure
        label={run.ended ? "Money" : "Money so far"}
        value={money(run.currency, run.cost_so_far)}
        beside={`planned ${money(run.currency, run.planned_cost)}${run.cap ? `; outside ${money(run.currency, run.outside_cost)} of at most ${money(run.currency, run.cap)}` : ""}`}
        alarm={!!run.cap && Number(run.outside_cost) > Number(run.cap)}
      />
    </Grid>
  );
}

/** No frame. */
const noFrame: Frame[] = [];

/** Pictures of the frames that were done last. */
const Latest = memo(function Latest({ run, last, onPick }: { run: Run; last: Frame[]; onPick: (p: Picked) => void }) {
  if (last.length === 0) return null;
  return (
    <Sheet title="Last frames">
      <Grid templateColumns={{ base: "repeat(4, minmax(0, 1fr))", md: "repeat(8, minmax(0, 1fr))" }} gap="2">
        {last.map((f) => (
          <Box asChild key={f.shot + f.frame} textAlign="left" cursor="pointer" rounded="sm">
            <button type="button" onClick={() => onPick(f)}>
              <Preview src={pictureURL(run.id, f.shot, f.frame, { width: 240 })} alt="" crop />
              <Flex fontSize="xs" color="fg.muted" gap="1">
                <Text truncate>{f.shot}</Text>
                <Text flexShrink="0">{f.frame}</Text>
              </Flex>
            </button>
          </Box>
        ))}
      </Grid>
    </Sheet>
  );
});

/** What is shown of a run before anybody has picked a frame: what failed asks for a hand; else
 * the newest picture is what one came to see. */
function firstOf(run: Run, map: FrameMap): Picked | undefined {
  const failed = isOver(run) ? map.failed[0] : undefined;
  return failed ? { shot: failed.shot, frame: numbersOf(failed.frames)[0] } : map.latest[0];
}

/** A value that changes all the time, as it is now and then; as it is at first. */
function useHeld<T>(value: T | undefined, every: number): T | undefined {
  const [held, setHeld] = useState<T>();
  const last = useRef(0);
  useEffect(() => {
    if (value === undefined) return;
    const due = setTimeout(
      () => {
        last.current = Date.now();
        setHeld(value);
      },
      Math.max(0, last.current + every - Date.now()),
    );
    return () => clearTimeout(due);
  }, [value, every]);
  return held ?? value;
}

/** How often other pictures are shown, in milliseconds: of a run with many frames each would be gone before it is seen. */
const newPictures = (run: Run) => (totalOf(run.counts) > 1_000 ? 30_000 : 1_000);

/** What does not follow each frame. */
const Beside = memo(function Beside({ run }: { run: Run }) {
  return (
    <>
      <Changes run={run} />
      <Crews run={run} />
      <Servers run={run} />
      <FarmJobs run={run} />
      <Ledger run={run} />
      <DoneTo about={`/runs/${run.id}`} />
    </>
  );
});

function Contents({ run: told }: { run: Run }) {
  const map = useFrameMap(told.id);
  const run = useMemo(() => counted(told, map.data), [told, map.data]);
  const mayWrite = useMayWrite();
  const [picked, setPicked] = useState<Picked>();
  const latest = useHeld(map.data?.latest, newPictures(told));
  const chosen = map.data && (picked ?? firstOf(run, { ...map.data, latest: latest ?? noFrame }));
  const shot = run.shots.find((s) => s.shot === chosen?.shot);
  const states = map.data?.shots.find((s) => s.shot === chosen?.shot);
  const letter = chosen && states?.states[indexOf(states, chosen.frame)];
  return (
    <Stack gap="6">
      <Figures run={run} />
      <Stranded run={run} mayWrite={mayWrite} />
      <Proposals run={run} />
      <Waiting run={run} />
      <Failures map={map.data} onPick={setPicked} />
      <Marked map={map.data} onPick={setPicked} />
      <Grid
        templateColumns={{
          base: "minmax(0, 1fr)",
          md: "minmax(0, 1.75fr) minmax(300px, 1fr)",
          "2xl": "minmax(0, 2fr) minmax(420px, 1fr)",
        }}
        gap="5"
        alignItems="start"
      >
        <Shown query={map}>{(m) => <Frames run={run} map={m} chosen={chosen} onPick={setPicked} />}</Shown>
        <Box position="sticky" top="4">
          {chosen && letter && (
            <FrameDetail
              run={run.id}
              shot={chosen.shot}
              number={chosen.frame}
              state={words[letter]}
              size={shot && `${shot.width} × ${shot.height}`}
            />
          )}
        </Box>
      </Grid>
      <Latest run={told} last={latest ?? noFrame} onPick={setPicked} />
      {isOver(run) && run.counts.done > 0 && <Results run={run} />}
      <Beside run={told} />
    </Stack>
  );
}

export function Run() {
  const { id = "" } = useParams();
  const run = useRun(id);
  const mayWrite = useMayWrite();
  return (
    <Page
      title={`Run ${id.slice(0, 8)}`}
      lead={
        run.data && (
          <>
            <State>{run.data.state}</State> began {moment(run.data.created)}
          </>
        )
      }
      actions={
        run.data && (
          <HStack align="end" gap="4" wrap="wrap" justify={{ base: "flex-start", md: "flex-end" }}>
            <Policy run={run.data} />
            <Priority run={run.data} />
            <Deadline run={run.data} />
            {mayWrite && <Controls run={run.data} />}
            {mayWrite && isOver(run.data) && <Over run={run.data} />}
          </HStack>
        )
      }
    >
      <Shown query={run}>{(r) => <Contents run={r} />}</Shown>
    </Page>
  );
}
