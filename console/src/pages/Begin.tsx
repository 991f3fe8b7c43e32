import { Box, Flex, Heading, Stack, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { LuCheck } from "react-icons/lu";
import { useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { useHosts, usePlan, useSession, useShots, useShotTrials } from "../api/queries";
import { kinds, nameOf } from "../forms/kinds";
import { useKnown } from "../forms/known";
import { Make } from "../forms/Make";
import { SpecForm } from "../forms/SpecForm";
import { Choice } from "../parts/Choice";
import { Computing } from "../parts/Computing";
import { chance, count, drift, length, moment, money } from "../parts/format";
import { Go } from "../parts/Go";
import { List } from "../parts/List";
import { Page, State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Empty } from "../parts/States";
import { makePlan } from "../plan/make";
import { SweepNow } from "../shot/Sweep";
import { JoinToken } from "./Access";
import { Start } from "./Plan";

/** A step: its number until it is done, what came of it, and what there is to do while it is next. */
function Step({
  number,
  title,
  came,
  next,
  children,
}: {
  number: number;
  title: string;
  came?: ReactNode; // what came of it; nothing: it is not done
  next: boolean;
  children: ReactNode;
}) {
  const done = came !== undefined && came !== false;
  return (
    <Flex as="li" gap="4" aria-current={next ? "step" : undefined}>
      <Flex
        w="8"
        h="8"
        flexShrink={0}
        rounded="full"
        align="center"
        justify="center"
        fontWeight="semibold"
        borderWidth="2px"
        borderColor={next ? "brass.solid" : done ? "done" : "line"}
        color={next ? "brass.fg" : done ? "done" : "fg.muted"}
        aria-hidden
      >
        {done ? <LuCheck /> : number}
      </Flex>
      <Stack gap="3" flex="1" minW="0" pb="7" borderBottomWidth="1px" borderColor="line">
        <Box>
          <Heading as="h2" size="md" fontWeight="semibold" color={next || done ? "fg" : "fg.muted"} lineHeight="2rem">
            {title}
          </Heading>
          {done && (
            <Text as="div" color="fg.muted">
              {came}
            </Text>
          )}
        </Box>
        {next && children}
        {!next && done && (
          <Box asChild>
            <details>
              <Box asChild cursor="pointer" color="brass.fg" fontSize="sm">
                <summary>Look at it again</summary>
              </Box>
              <Box mt="3">{children}</Box>
            </details>
          </Box>
        )}
      </Stack>
    </Flex>
  );
}

function Machines({ hosts }: { hosts: Schemas["Host"][] }) {
  const admin = useSession().data?.role === "admin";
  return (
    <Stack gap="4">
      {hosts.length > 0 && (
        <List
          label="Machines"
          rows={hosts}
          keyOf={(h) => h.spec.name}
          columns={[
            { name: "Host", cell: (h) => <Go to={`/hosts/${h.spec.name}`}>{h.spec.name}</Go> },
            { name: "Agent", cell: (h) => <State>{h.agent === "none" ? "no agent yet" : h.agent}</State> },
            { name: "CPU", cell: (h) => `${h.spec.cpu.cores} cores`, right: true },
            { name: "Devices", cell: (h) => h.spec.devices?.map((d) => d.model).join(", ") || "no GPU" },
            { name: "Renderers", cell: (h) => h.launchers?.join(", ") || "not told yet" },
          ]}
        />
      )}
      {admin ? <JoinToken /> : <Text color="fg.muted">An admin lets agents join: ask for a join token.</Text>}
      <Flex>
        <Make of="hosts" quiet text="Describe a machine" />
      </Flex>
    </Stack>
  );
}

function ChooseShot({
  shots,
  shot,
  choose,
}: {
  shots: Schemas["Shot"][];
  shot: string;
  choose: (name: string) => void;
}) {
  const cache = useQueryClient();
  const known = useKnown();
  const kind = kinds.shots;
  const save = async (value: Record<string, unknown>) => {
    const name = nameOf(kind, value);
    await kind.put(name, value);
    await cache.invalidateQueries({ queryKey: ["shots"] });
    choose(name);
  };
  return (
    <Stack gap="5">
      {shots.length > 0 && (
        <Flex>
          <Choice
            label="One that is there"
            value={shot}
            options={[{ value: "", text: "a new one, below" }, ...shots.map((s) => s.spec.name)]}
            onChange={choose}
          />
        </Flex>
      )}
      {!shot && (
        <SpecForm
          schema={kind.schema}
          draft="new shots"
          stored={kind.fresh}
          ui={{ "ui:first": ["title", "settings"], ...known }}
          save="Make the shot"
          onSave={save}
        />
      )}
    </Stack>
  );
}

/** A day from now by the service's clock, on the hour: for a shot that has no deadline. */
function inADay(now: string) {
  const at = new Date(Date.parse(now) + 24 * 3_600_000);
  at.setMinutes(0, 0, 0);
  return at.toISOString();
}

function PlanIt({ of, onMade }: { of: Schemas["Shot"]; onMade: (plan: string) => void }) {
  const cache = useQueryClient();
  const now = useSession().data?.clock.now;
  const shot = of.spec.name;
  const make = async (value: Record<string, unknown>) => {
    const plan = await makePlan({ ...value, shots: [shot] } as Schemas["NewPlan"]);
    cache.invalidateQueries({ queryKey: ["plans"] });
    onMade(plan.id);
  };
  const hidden = { "ui:widget": "hidden" };
  return (
    <SpecForm
      schema="NewPlan"
      draft={`first plan of ${shot}`}
      stored={{ shots: [shot], confidence: 0.9, by: of.spec.deadline || !now ? undefined : inADay(now) }}
      ui={{ "ui:first": ["by", "confidence", "rented"], shots: hidden, run: hidden }}
      save="Plan it"
      onSave={make}
      waiting={<Computing path="/plans" />}
    />
  );
}

/** What a plan came to, in a sentence. */
function Came({ plan }: { plan: Schemas["Plan"] }) {
  const against = plan.deadline && plan.status !== "impossible" ? `, ${drift(plan.finish, plan.deadline).text}` : "";
  return (
    <>
      <State>{plan.status}</State>{" "}
      {plan.status === "impossible"
        ? plan.impossible?.map((i) => `${i.shot}: ${i.why}`).join("; ")
        : `${money(plan.currency, plan.cost)}, done ${moment(plan.finish)}${against}${plan.chance === undefined ? "" : `; ${chance(plan.chance)} to be in time`}`}
      {". "}
      <Go to={`/plans/${plan.id}`}>All of it</Go>
    </>
  );
}

/** How a shot's frames were timed, in a sentence. */
function timed(trials: Schemas["Trial"][]) {
  const good = trials.filter((t) => t.summary?.frames);
  if (good.length === 0) return undefined;
  const best = good.reduce((a, b) => ((b.summary?.median_s ?? 0) < (a.summary?.median_s ?? 0) ? b : a));
  return `${count(good.length, "crew")} timed; the fastest is ${best.host}/${best.crew} with ${length(best.summary?.median_s)} a frame.`;
}

/** From the first machine to the first frame, in five steps. */
export function Begin() {
  const [params, setParams] = useSearchParams();
  const mayWrite = useMayWrite();
  const hosts = (useHosts().data ?? []).filter((h) => !h.server);
  const shots = (useShots().data ?? []).filter((s) => !s.pass_of);
  const shot = shots.find((s) => s.spec.name === params.get("shot"));
  const name = shot?.spec.name ?? "";
  const trials = useShotTrials(name).data ?? [];
  const plan = usePlan(params.get("plan") ?? "").data;
  const set = (more: Record<string, string>) =>
    setParams((old) => {
      for (const [k, v] of Object.entries(more)) v ? old.set(k, v) : old.delete(k);
      return old;
    });
  const up = hosts.filter((h) => h.agent === "up");
  const steps = [
    {
      title: "Machines",
      came:
        up.length > 0 &&
        `${count(up.length, "machine")} with an agent that is up: ${up.map((h) => h.spec.name).join(", ")}.`,
      body: <Machines hosts={hosts} />,
    },
    {
      title: "The scene",
      came:
        shot &&
        `${name}: ${shot.spec.scene}, ${count(shot.frame_count, "frame")} of ${shot.spec.width} × ${shot.spec.height} px, ${shot.spec.launcher}.`,
      body: <ChooseShot shots={shots} shot={name} choose={(s) => set({ shot: s, plan: "" })} />,
    },
    {
      title: "Test frames",
      came: shot && timed(trials),
      body: (
        <Stack gap="3">
          <Text>
            A plan is as good as the times that it is made from. A sweep renders a few frames on the crews that tell
            most, and says for the others what to expect.
          </Text>
          {shot?.spec.passes?.length ? (
            <Text>
              It has passes, each of which is timed by itself: <Go to={`/shots/${name}`}>{name}</Go>
            </Text>
          ) : (
            <SweepNow shot={name} />
          )}
        </Stack>
      ),
    },
    {
      title: "The plan",
      came: shot && plan && <Came plan={plan} />,
      body: shot && <PlanIt key={name} of={shot} onMade={(id) => set({ plan: id })} />,
    },
    {
      title: "Start",
      came: undefined,
      body:
        plan && plan.status !== "impossible" ? (
          <Flex justify="flex-start">
            <Start plan={plan} />
          </Flex>
        ) : (
          <Text color="fg.muted">
            This plan cannot be carried out: plan it otherwise, or find out why it is impossible.
          </Text>
        ),
    },
  ];
  const next = steps.findIndex((s) => !s.came);
  return (
    <Page title="First shot" lead="From the first machine to the first frame, in five steps.">
      {mayWrite ? (
        <Stack as="ol" gap="5" maxW="70rem" listStyleType="none">
          {steps.map((s, i) => (
            <Step key={s.title} number={i + 1} title={s.title} came={s.came || undefined} next={i === next}>
              {s.body}
            </Step>
          ))}
        </Stack>
      ) : (
        <Empty title="You may look, not begin">An operator's or an admin's token may plan and start.</Empty>
      )}
    </Page>
  );
}
