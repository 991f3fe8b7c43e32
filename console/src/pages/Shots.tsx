import { Box, Button, Checkbox, Field, Flex, Input, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { answered, client, newKey, type Schemas } from "../api/client";
import { useHosts, useSession, useShots, useTrials } from "../api/queries";
import { Make } from "../forms/Make";
import { Computing } from "../parts/Computing";
import { count, length, moment, none, percent } from "../parts/format";
import { Go } from "../parts/Go";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Empty, Failed, Shown } from "../parts/States";
import { TakeIn } from "../parts/TakeIn";
import { makePlan } from "../plan/make";
import { Backlog } from "../shot/Backlog";
import { rendererOf } from "./Shot";

const crewField = { borderColor: "line", borderWidth: "1px", rounded: "md", px: "3", h: "10", bg: "bg" } as const;

/** Asks for a trial: which shot, on which crew. */
function TimeFrame({ shots }: { shots: Schemas["Shot"][] }) {
  const hosts = useHosts().data ?? [];
  const cache = useQueryClient();
  const [shot, setShot] = useState(shots[0]?.spec.name ?? "");
  const [place, setPlace] = useState("");
  const launcher = shots.find((s) => s.spec.name === shot)?.spec.launcher ?? "";
  const able = hosts.filter((h) => h.agent === "up" && !h.server && h.launchers?.includes(launcher));
  const begin = useMutation({
    mutationFn: () => {
      const [host, crew] = place.split("/");
      return answered(
        client.POST("/trials", { params: { header: { "Idempotency-Key": newKey() } }, body: { shot, host, crew } }),
      );
    },
    onSuccess: () => cache.invalidateQueries({ queryKey: ["trials"] }),
  });
  return (
    <Stack gap="3">
      <Flex gap="3" align="flex-end" wrap="wrap">
        <Field.Root w="auto">
          <Field.Label>Shot</Field.Label>
          <Box asChild {...crewField}>
            <select aria-label="Shot" value={shot} onChange={(e) => setShot(e.target.value)}>
              {shots.map((s) => (
                <option key={s.spec.name}>{s.spec.name}</option>
              ))}
            </select>
          </Box>
        </Field.Root>
        <Field.Root w="auto">
          <Field.Label>Crew</Field.Label>
          <Box asChild {...crewField} minW="15rem">
            <select aria-label="Crew" value={place} onChange={(e) => setPlace(e.target.value)}>
              <option value="">choose…</option>
              {able.map((h) => (
                <optgroup key={h.spec.name} label={h.spec.name}>
                  {h.crews.map((c) => (
                    <option key={c.id} value={`${h.spec.name}/${c.id}`}>
                      {c.id}: {c.models.join(" + ")}
                    </option>
                  ))}
                </optgroup>
              ))}
            </select>
          </Box>
        </Field.Root>
        <Button variant="outline" disabled={!place} loading={begin.isPending} onClick={() => begin.mutate()}>
          Time a frame
        </Button>
      </Flex>
      {able.length === 0 && <Text color="fg.muted">No agent that is up may start {launcher}.</Text>}
      {begin.error && <Failed error={begin.error} />}
    </Stack>
  );
}

/** Asks for a plan of the chosen shots. */
function PlanThem({ chosen }: { chosen: string[] }) {
  const go = useNavigate();
  const cache = useQueryClient();
  const clock = useSession().data?.clock;
  const [hours, setHours] = useState("");
  const [rented, setRented] = useState(true);
  const plan = useMutation({
    mutationFn: async () => {
      let by: string | undefined;
      if (hours && clock) {
        const { clock: now } = await answered(client.GET("/session"));
        by = new Date(Date.parse(now.now) + Number(hours) * 3_600_000).toISOString();
      }
      return makePlan({ shots: chosen, by, rented });
    },
    onSuccess: (made) => {
      cache.invalidateQueries({ queryKey: ["plans"] });
      go(`/plans/${made.id}`);
    },
  });
  return (
    <Stack gap="3" mt="4">
      <Flex gap="4" align="flex-end" wrap="wrap">
        <Field.Root w="auto">
          <Field.Label>Hours from now</Field.Label>
          <Input
            type="number"
            min="0.1"
            step="any"
            w="9rem"
            borderColor="line"
            placeholder="own deadline"
            value={hours}
            onChange={(e) => setHours(e.target.value)}
          />
        </Field.Root>
        <Checkbox.Root checked={rented} onCheckedChange={(e) => setRented(e.checked === true)} h="10">
          <Checkbox.HiddenInput />
          <Checkbox.Control borderColor="line" />
          <Checkbox.Label>Servers and farms may be hired</Checkbox.Label>
        </Checkbox.Root>
        <Button
          disabled={chosen.length === 0}
          loading={plan.isPending}
          loadingText="Planning"
          onClick={() => plan.mutate()}
        >
          {chosen.length > 0 ? `Plan ${count(chosen.length, "shot")}` : "Plan: choose shots above"}
        </Button>
        <Button asChild variant="ghost">
          <Link to={`/plans/new?shots=${chosen.join(",")}`}>Say more: budget, chance, pins</Link>
        </Button>
      </Flex>
      {plan.isPending && <Computing path="/plans" />}
      {plan.error && <Failed error={plan.error} />}
    </Stack>
  );
}

/** A shot's name; that of a pass stands below its shot's. */
function Name({ shot }: { shot: Schemas["Shot"] }) {
  const link = <Go to={`/shots/${shot.spec.name}`}>{shot.pass ?? shot.spec.name}</Go>;
  return shot.pass ? <Box ps="4">{link}</Box> : link;
}

export function Shots() {
  const shots = useShots();
  const trials = useTrials();
  const mayWrite = useMayWrite();
  const [chosen, setChosen] = useState<string[]>([]);
  const choose = (name: string, on: boolean) =>
    setChosen((old) => (on ? [...old, name] : old.filter((n) => n !== name)));
  return (
    <Page
      title="Shots"
      lead="What is to be rendered, and how long a frame of it takes where."
      actions={<Make of="shots" />}
    >
      <Stack gap="6">
        <Shown query={shots}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="No shot yet" command="rotanex shots import shots.yaml" next={<Make of="shots" />}>
                A shot is a scene, its frames, their size and the settings of the renderer.
              </Empty>
            ) : (
              <Sheet title="Shots">
                <List
                  label="Shots"
                  rows={all}
                  keyOf={(s) => s.spec.name}
                  columns={[
                    ...(mayWrite
                      ? [
                          {
                            name: "Plan",
                            cell: (s: Schemas["Shot"]) =>
                              s.pass_of ? null : (
                                <Checkbox.Root
                                  size="sm"
                                  checked={chosen.includes(s.spec.name)}
                                  onCheckedChange={(e) => choose(s.spec.name, e.checked === true)}
                                >
                                  <Checkbox.HiddenInput aria-label={`Plan ${s.spec.name}`} />
                                  <Checkbox.Control borderColor="fg.muted" />
                                </Checkbox.Root>
                              ),
                          },
                        ]
                      : []),
                    { name: "Shot", value: (s) => s.spec.name, cell: (s) => <Name shot={s} /> },
                    { name: "Title", value: (s) => s.spec.title, cell: (s) => s.spec.title },
                    { name: "Frames", cell: (s) => s.spec.frames },
                    { name: "Count", value: (s) => s.frame_count, cell: (s) => s.frame_count, right: true },
                    { name: "Size", cell: (s) => `${s.spec.width} × ${s.spec.height} px`, right: true },
                    { name: "Renderer", value: (s) => rendererOf(s), cell: rendererOf },
                    {
                      name: "Device memory",
                      value: (s) => s.spec.device_memory_gb,
                      cell: (s) =>
                        s.spec.device_memory_gb && !s.spec.passes?.length ? `${s.spec.device_memory_gb} GB` : none,
                      right: true,
                    },
                    { name: "Deadline", value: (s) => s.spec.deadline, cell: (s) => moment(s.spec.deadline) },
                  ]}
                />
                {mayWrite && (
                  <>
                    <PlanThem chosen={chosen} />
                    <Box mt="4" pt="4" borderTopWidth="1px" borderColor="line">
                      <Backlog chosen={chosen} />
                    </Box>
                  </>
                )}
              </Sheet>
            )
          }
        </Shown>
        {mayWrite && shots.data && shots.data.length > 0 && (
          <Sheet title="Time a test frame" aside="A warm-up that does not count, then frames from across the shot.">
            <TimeFrame shots={shots.data.filter((s) => !s.spec.passes?.length)} />
          </Sheet>
        )}
        {mayWrite && (
          <Sheet
            title="Times from elsewhere"
            aside={
              <Box asChild color="brass.fg" textDecoration="underline" textUnderlineOffset="3px">
                <a href="/api/v1/times" download="times.csv">
                  All timed frames as CSV
                </a>
              </Box>
            }
          >
            <TakeIn
              what="times that were measured elsewhere"
              example={"shot,crew,seconds,models\nstair-030,g0,41.5,Halyard 24"}
              send={async (csv) => {
                const { rows } = await answered(
                  client.POST("/times", {
                    params: { header: { "Idempotency-Key": newKey() } },
                    body: csv,
                    bodySerializer: (text) => text,
                    headers: { "Content-Type": "text/csv" },
                  }),
                );
                return `${count(rows, "time")} taken in`;
              }}
              stale={["comparison"]}
            />
          </Sheet>
        )}
        <Shown query={trials}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="No frame timed yet" command="rotanex trials run SHOT --crew HOST/CREW">
                A plan is as good as the times that it is made from.
              </Empty>
            ) : (
              <Sheet title="Trials" aside="Newest first. Times are by the service's clock.">
                <List
                  label="Trials"
                  rows={all}
                  keyOf={(t) => t.id}
                  columns={[
                    { name: "Shot", value: (t) => t.shot, cell: (t) => t.shot },
                    { name: "Crew", value: (t) => `${t.host}/${t.crew}`, cell: (t) => `${t.host}/${t.crew}` },
                    { name: "Devices", cell: (t) => t.models.join(" + ") },
                    { name: "State", value: (t) => t.state, cell: (t) => <State>{t.state}</State> },
                    {
                      name: "Timed",
                      value: (t) => t.summary?.frames,
                      cell: (t) => t.summary?.frames ?? 0,
                      right: true,
                    },
                    {
                      name: "Median",
                      value: (t) => t.summary?.median_s,
                      cell: (t) => length(t.summary?.median_s),
                      right: true,
                    },
                    {
                      name: "Fastest",
                      value: (t) => t.summary?.low_s,
                      cell: (t) => length(t.summary?.low_s),
                      right: true,
                    },
                    {
                      name: "Slowest",
                      value: (t) => t.summary?.high_s,
                      cell: (t) => length(t.summary?.high_s),
                      right: true,
                    },
                    {
                      name: "Spread",
                      value: (t) => t.summary?.spread,
                      cell: (t) => (t.summary && t.summary.frames > 1 ? percent(t.summary.spread) : none),
                      right: true,
                    },
                    { name: "Power", cell: (t) => t.conditions?.power ?? none },
                  ]}
                />
              </Sheet>
            )
          }
        </Shown>
      </Stack>
    </Page>
  );
}
