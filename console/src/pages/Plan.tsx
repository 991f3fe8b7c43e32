import { Box, Button, Checkbox, Flex, Grid, Input, Stack, Link as Styled, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answered, client, newKey, type Schemas } from "../api/client";
import { isOver, usePlan, useRuns } from "../api/queries";
import { Choice } from "../parts/Choice";
import { chance, count, drift, length, moment, money, none, opening } from "../parts/format";
import { List } from "../parts/List";
import { Figure, Page, Sheet, State } from "../parts/Page";
import { DoneTo } from "../parts/Records";
import { useMayWrite } from "../parts/role";
import { Failed, Shown } from "../parts/States";
import { Against } from "../plan/Against";
import { Effects } from "../plan/Effects";
import { Outlook } from "../plan/Outlook";
import { PlanAgain, usePlanAgain } from "../plan/PlanAgain";
import { Timeline } from "../plan/Timeline";
import { Tradeoff } from "../plan/Tradeoff";
import { Why } from "../plan/Why";

export function Start({ plan }: { plan: Schemas["Plan"] }) {
  const go = useNavigate();
  const cache = useQueryClient();
  const [asking, setAsking] = useState(false);
  const [spend, setSpend] = useState((plan.run ? plan.outside_cost : plan.may_spend) ?? "");
  const [accepts, setAccepts] = useState(false);
  const [policy, setPolicy] = useState<Schemas["Policy"] | "">("");
  const start = useMutation({
    mutationFn: () =>
      answered(
        plan.run
          ? client.PUT("/runs/{run}/plan", {
              params: { path: { run: plan.run } },
              body: { plan: plan.id, spend: spend || undefined },
            })
          : client.POST("/runs", {
              params: { header: { "Idempotency-Key": newKey() } },
              body: {
                plan: plan.id,
                tries: 3,
                spend: spend || undefined,
                accept_proofs: accepts,
                policy: policy || undefined,
              },
            }),
      ),
    onSuccess: (run) => {
      cache.invalidateQueries({ queryKey: ["runs"] });
      go(`/runs/${run.id}`);
    },
  });
  const runs = useRuns();
  const begun = runs.data?.items.find((r) => r.plan === plan.id && r.state !== "cancelled");
  if (begun) {
    return (
      <Button asChild variant="outline">
        <Link to={`/runs/${begun.id}`}>
          {isOver(begun) ? "Carried out" : "Under way"}: run {begun.id.slice(0, 8)}
        </Link>
      </Button>
    );
  }
  return (
    <Box textAlign="right">
      {asking ? (
        <Stack gap="3" align="flex-end">
          <Text>
            {money(plan.currency, plan.outside_cost ?? "0.00")} of it goes to servers, farms and seats. Spend at most
            {plan.run && ", what was spent before counted,"} in {plan.currency}:
          </Text>
          <Flex gap="3" align="center">
            {!plan.run && (
              <Checkbox.Root checked={accepts} onCheckedChange={(e) => setAccepts(e.checked === true)} size="sm">
                <Checkbox.HiddenInput />
                <Checkbox.Control />
                <Checkbox.Label>accept farms' proof frames that look as those rendered here</Checkbox.Label>
              </Checkbox.Root>
            )}
            <Input
              aria-label={`Spend at most, in ${plan.currency}`}
              w="28"
              textAlign="right"
              value={spend}
              onChange={(e) => setSpend(e.target.value)}
            />
            <Button loading={start.isPending} onClick={() => start.mutate()}>
              {plan.run ? "Go on by it, and spend it" : "Start, and spend it"}
            </Button>
            <Button variant="ghost" onClick={() => setAsking(false)}>
              No
            </Button>
          </Flex>
        </Stack>
      ) : (
        <Flex gap="4" align="end" justify={{ base: "flex-start", md: "flex-end" }} wrap="wrap">
          {!plan.run && (
            <Choice
              label="Plan anew"
              value={policy}
              options={[{ value: "", text: "as usual" }, "auto", "ask", "off"]}
              onChange={setPolicy}
            />
          )}
          <Button
            loading={start.isPending || runs.isPending}
            onClick={() => (plan.may_spend ? setAsking(true) : start.mutate())}
          >
            {plan.run ? "Let the run go on by it" : "Start the run"}, {money(plan.currency, plan.cost)}
          </Button>
        </Flex>
      )}
      {start.error && (
        <Box mt="3" textAlign="left">
          <Failed error={start.error} />
        </Box>
      )}
    </Box>
  );
}

const exports = [
  { format: "svg", text: "picture" },
  { format: "csv", text: "table" },
  { format: "ics", text: "calendars" },
  { format: "json", text: "plan file" },
] as const;

function Exports({ plan }: { plan: Schemas["Plan"] }) {
  return (
    <>
      Take away as{" "}
      {exports.map((e, i) => (
        <span key={e.format}>
          {i > 0 && ", "}
          <Styled href={`/api/v1/plans/${plan.id}/export?format=${e.format}`} download color="brass.fg">
            {e.text}
          </Styled>
        </span>
      ))}
    </>
  );
}

/** The chance beside the status: by its times a plan may meet what it hardly ever will. */
function Sure({ plan }: { plan: Schemas["Plan"] }) {
  if (plan.chance === undefined) return null;
  return (
    <Text
      as="span"
      color={plan.chance < 0.5 ? "failed" : undefined}
      fontWeight={plan.chance < 0.5 ? "semibold" : undefined}
    >
      {chance(plan.chance)} to be in time;{" "}
    </Text>
  );
}

function Sources({ plan }: { plan: Schemas["Plan"] }) {
  return (
    <Sheet title="Cost by source">
      <List
        label="Cost by source"
        rows={plan.sources ?? []}
        keyOf={(s) => s.source}
        columns={[
          { name: "Source", value: (s) => s.source, cell: (s) => s.source },
          { name: "Frames", cell: (s) => s.frames.toLocaleString(), right: true },
          { name: "Cost", cell: (s) => money(plan.currency, s.cost), right: true },
          {
            name: "To the minimum charge",
            cell: (s) => (s.minimum_charge ? money(plan.currency, s.minimum_charge) : none),
            right: true,
          },
          {
            name: "Paid, not rendering",
            cell: (s) => (s.paid_s ? `${length(s.unused_s)} of ${length(s.paid_s)}` : none),
            right: true,
          },
        ]}
      />
    </Sheet>
  );
}

function Contents({ plan }: { plan: Schemas["Plan"] }) {
  const mayWrite = useMayWrite();
  const again = usePlanAgain(plan);
  const frames = (plan.bookings ?? []).reduce((n, b) => n + b.frames, 0);
  const predicted = (plan.bookings ?? []).filter((b) => b.basis === "predicted").reduce((n, b) => n + b.frames, 0);
  const against = plan.deadline ? drift(plan.finish, plan.deadline) : undefined;
  if (plan.status === "impossible")
    return (
      <Sheet title="This cannot be rendered">
        <Stack gap="2">
          {plan.impossible?.map((i) => (
            <Text key={i.shot}>
              {i.shot}: {i.why}
            </Text>
          ))}
        </Stack>
        <Why plan={plan} />
        <LeftOut plan={plan} />
      </Sheet>
    );
  return (
    <Stack gap="6">
      <Grid templateColumns={{ base: "repeat(2, 1fr)", md: "repeat(4, 1fr)" }} gap="5">
        <Figure
          label="Cost"
          value={money(plan.currency, plan.cost)}
          beside={
            plan.status === "late"
              ? "the least late plan, at its least cost"
              : `no plan costs less than ${money(plan.currency, plan.cost_bound)}`
          }
        />
        <Figure
          label="Finish"
          value={moment(plan.finish)}
          beside={[
            against && `${against.text} against the deadline`,
            plan.finish_bound && `none inside the budget before ${moment(plan.finish_bound)}`,
          ]
            .filter(Boolean)
            .join("; ")}
          alarm={against?.late}
        />
        <Figure label="Frames" value={frames.toLocaleString()} beside={`of ${count(plan.shots.length, "shot")}`} />
        <Figure
          label="Resting on measured times"
          value={`${frames ? Math.round((100 * (frames - predicted)) / frames) : 0} %`}
          beside={
            predicted ? `${count(predicted, "frame")} on crews predicted from like devices` : "every crew was timed"
          }
        />
      </Grid>
      {plan.gain && <Text>Planned together with what is open: {plan.gain}.</Text>}
      {plan.kept?.map((k) => (
        <Text key={k.shot + k.run} color="fg.muted">
          {k.shot}: {count(k.count, "frame")} ({k.frames}) {k.count === 1 ? "is" : "are"} done already by run{" "}
          <Styled asChild color="brass.fg">
            <Link to={`/runs/${k.run}`}>{k.run.slice(0, 8)}</Link>
          </Styled>{" "}
          with the same scene, settings and package, and kept as they are.
        </Text>
      ))}
      <Sheet title="Who renders what, when" aside={<Exports plan={plan} />}>
        <Timeline
          key={plan.id}
          plan={plan}
          onDeadline={mayWrite && !plan.assumes?.length ? (at) => again.mutate({ by: at }) : undefined}
        />
      </Sheet>
      <Effects plan={plan.id} />
      {plan.status !== "meets" && <Why plan={plan} />}
      <Grid templateColumns={{ base: "1fr", xl: "1fr 1fr" }} gap="6" alignItems="start">
        <Outlook plan={plan} />
        <Tradeoff plan={plan} />
      </Grid>
      {mayWrite && !plan.assumes?.length && <PlanAgain plan={plan} again={again} />}
      <Sources plan={plan} />
      {plan.status === "meets" && <Why plan={plan} />}
      <Against plan={plan} />
      <Sheet title="Bookings">
        <List
          label="Bookings"
          rows={plan.bookings ?? []}
          keyOf={(b) => `${b.shot}${b.place}${b.crew}${b.start}`}
          columns={[
            { name: "Shot", value: (b) => b.shot, cell: (b) => b.shot },
            { name: "Where", value: (b) => `${b.place}/${b.crew}`, cell: (b) => `${b.place}/${b.crew}` },
            { name: "Frames", value: (b) => b.frames, cell: (b) => b.frames, right: true },
            { name: "Start", value: (b) => b.start, cell: (b) => moment(b.start) },
            { name: "End", value: (b) => b.end, cell: (b) => moment(b.end) },
            { name: "A frame", value: (b) => b.frame_s, cell: (b) => length(b.frame_s), right: true },
            ...((plan.bookings ?? []).some((b) => b.opening_s)
              ? [{ name: "Opening", cell: (b: Schemas["PlannedBooking"]) => opening(b), right: true }]
              : []),
            { name: "Basis", value: (b) => b.basis, cell: (b) => <State>{b.basis}</State> },
            { name: "90 % interval", cell: (b) => `${length(b.low_s)} – ${length(b.high_s)}`, right: true },
            {
              name: "Cost",
              value: (b) => b.cost,
              cell: (b) => (b.cost ? money(plan.currency, b.cost) : "in its server"),
              right: true,
            },
          ]}
        />
      </Sheet>
      {(plan.servers?.length ?? 0) > 0 && (
        <Sheet title="Rented servers">
          <List
            label="Rented servers"
            rows={plan.servers ?? []}
            keyOf={(s) => s.id}
            columns={[
              { name: "Server", cell: (s) => s.id },
              { name: "Source", cell: (s) => s.source },
              { name: "From", cell: (s) => moment(s.from) },
              { name: "Renders from", cell: (s) => moment(s.usable) },
              { name: "To", cell: (s) => moment(s.to) },
              { name: "Paid for", cell: (s) => length(s.billed_s), right: true },
              { name: "Cost", cell: (s) => money(plan.currency, s.cost), right: true },
            ]}
          />
        </Sheet>
      )}
      <LeftOut plan={plan} />
    </Stack>
  );
}

function LeftOut({ plan }: { plan: Schemas["Plan"] }) {
  if (!plan.left_out?.length) return null;
  return (
    <Box asChild>
      <details>
        <Box asChild cursor="pointer" color="fg.muted" py="2">
          <summary>What was left out, and why: {count(plan.left_out.length, "line")}</summary>
        </Box>
        <Sheet>
          <List
            label="Left out"
            rows={plan.left_out}
            keyOf={(l) => `${l.shot}${l.place}${l.crew}`}
            columns={[
              { name: "Shot", cell: (l) => l.shot },
              { name: "Where", cell: (l) => (l.crew ? `${l.place}/${l.crew}` : l.place) },
              { name: "Why", cell: (l) => l.why },
              { name: "What to do", cell: (l) => l.fix ?? none },
            ]}
          />
        </Sheet>
      </details>
    </Box>
  );
}

export function Plan() {
  const { id = "" } = useParams();
  const plan = usePlan(id);
  const mayWrite = useMayWrite();
  return (
    <Page
      title={`Plan ${id.slice(0, 8)}`}
      lead={
        plan.data && (
          <>
            <State>{plan.data.status}</State> <Sure plan={plan.data} />
            {plan.data.shots.length > 6 ? count(plan.data.shots.length, "shot") : plan.data.shots.join(", ")}, planned{" "}
            {moment(plan.data.created)}
            {!!plan.data.slack && `, ${Math.round(100 * plan.data.slack)} % of the time kept spare`}
            {plan.data.run && `, for the rest of run ${plan.data.run.slice(0, 8)}`}
            {!!plan.data.assumes?.length && `; supposes ${plan.data.assumes.join("; ")}`}
          </>
        )
      }
      actions={
        mayWrite &&
        plan.data &&
        plan.data.status !== "impossible" &&
        !plan.data.assumes?.length &&
        !plan.data.run && <Start plan={plan.data} />
      }
    >
      <Shown query={plan}>{(p) => <Contents plan={p} />}</Shown>
      <Box mt="6">
        <DoneTo about={`/plans/${id}`} />
      </Box>
    </Page>
  );
}
