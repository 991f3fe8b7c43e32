import { Box, Grid, Stack, Text, useToken } from "@chakra-ui/react";
import { scaleTime } from "d3-scale";
import { Area, CartesianGrid, ComposedChart, Line, ReferenceLine, ResponsiveContainer, XAxis, YAxis } from "recharts";
import type { Schemas } from "../api/client";
import { useForecast } from "../api/queries";
import { chance, drift, length, moment, money, near, none, timeOfDay } from "../parts/format";
import { List } from "../parts/List";
import { Figure, Sheet } from "../parts/Page";
import { Shown } from "../parts/States";

type Plan = Schemas["Plan"];

/** How sure the plan is: simulated many times, with when it was finished in how many. */
export function Outlook({ plan }: { plan: Plan }) {
  const forecast = useForecast(plan.id);
  return (
    <Sheet
      title="Chance to be in time"
      aside={
        forecast.data &&
        `${forecast.data.simulations.toLocaleString()} simulations by the rule of a run, seed ${forecast.data.seed}`
      }
    >
      <Shown query={forecast} path={`/plans/${plan.id}/forecast`}>
        {(f) => <Simulated plan={plan} f={f} />}
      </Shown>
    </Sheet>
  );
}

const total = (all: number[]) => all.reduce((a, b) => a + b, 0);

function Simulated({ plan, f }: { plan: Plan; f: Schemas["PlanForecast"] }) {
  const [muted, line, done, failed] = useToken("colors", ["fg.muted", "line", "done", "failed"]);
  const parts = (times: string[]) => times.map((t, i) => ({ at: Date.parse(t), part: (100 * i) / 40 }));
  const alone = parts(f.curve);
  const kept = f.kept_curve?.length ? parts(f.kept_curve) : undefined;
  // Few simulations end long after all others: the axis leaves them out.
  const shown = [...alone, ...(kept ?? [])].filter((x) => x.part <= 97.5).map((x) => x.at);
  if (plan.deadline) shown.push(Date.parse(plan.deadline));
  const [from, to] = [Math.min(...shown), Math.max(...shown) + 0.04 * (Math.max(...shown) - Math.min(...shown))];
  const finish = kept && f.kept_finish ? f.kept_finish : f.finish;
  const [rendering, opening] = [total(f.shots.map((s) => s.rendering_s)), total(f.shots.map((s) => s.opening_s))];
  const late = finish.p90 && plan.deadline ? drift(finish.p90, plan.deadline) : undefined;
  return (
    <Stack gap="4">
      <Grid templateColumns="repeat(3, 1fr)" gap="5">
        <Figure
          label="In time"
          value={chance(f.chance)}
          beside={f.never ? `${f.never} simulations left frames over` : "every shot by its deadline"}
          alarm={f.chance < 0.8}
        />
        <Figure
          label="Half are done by"
          value={finish.p50 ? moment(finish.p50) : none}
          beside={[
            finish.p90 ? `nine in ten by ${moment(finish.p90)}` : "more than one in ten never",
            kept && f.finish.p50 && `by this plan as it is half by ${near(f.finish.p50, finish.p50)}`,
          ]
            .filter(Boolean)
            .join("; ")}
          alarm={late?.late}
        />
        <Figure
          label="Half cost less than"
          value={money(plan.currency, f.cost.p50)}
          beside={`nine in ten less than ${money(plan.currency, f.cost.p90)}`}
        />
      </Grid>
      {alone.length > 2 && (
        <figure aria-label="Part of the simulations that are finished, by time" style={{ height: 170 }}>
          <ResponsiveContainer width="100%" height="100%">
            <ComposedChart data={kept ?? alone} margin={{ top: 6, right: 16, bottom: 4, left: 0 }}>
              <CartesianGrid stroke={line} vertical={false} />
              <XAxis
                dataKey="at"
                type="number"
                scale="time"
                domain={[from, to]}
                allowDataOverflow
                ticks={scaleTime([from, to], [0, 1]).ticks(4).map(Number)}
                tickFormatter={(t: number) => timeOfDay(new Date(t))}
                stroke={muted}
                tick={{ fontSize: 12 }}
              />
              <YAxis
                stroke={muted}
                tick={{ fontSize: 12 }}
                width={62}
                unit=" %"
                domain={[0, 100]}
                ticks={[0, 50, 100]}
              />
              <Area dataKey="part" stroke={done} fill={done} fillOpacity={0.18} isAnimationActive={false} />
              {kept && (
                <Line
                  data={alone}
                  dataKey="part"
                  stroke={muted}
                  strokeDasharray="4 3"
                  dot={false}
                  isAnimationActive={false}
                />
              )}
              {plan.deadline && <ReferenceLine x={Date.parse(plan.deadline)} stroke={failed} strokeWidth={2} />}
            </ComposedChart>
          </ResponsiveContainer>
        </figure>
      )}
      {kept && (
        <Text fontSize="sm" color="fg.muted">
          Filled: as the schedule is kept by itself, by how earlier runs ended. It uses the time that there is to save
          money. Dashed: this plan as it is. The line is the deadline.
        </Text>
      )}
      {f.shots.length > 1 && (
        <List
          label="Chance by shot"
          rows={f.shots}
          keyOf={(s) => s.shot}
          columns={[
            { name: "Shot", cell: (s) => s.shot },
            { name: "In time", cell: (s) => chance(s.chance), right: true },
            { name: "Half by", cell: (s) => near((s.kept_finish ?? s.finish).p50, plan.deadline) },
            { name: "Nine in ten by", cell: (s) => near((s.kept_finish ?? s.finish).p90, plan.deadline) },
          ]}
        />
      )}
      {rendering > 0 && (
        <Text fontSize="sm" color="fg.muted">
          Crews render for {length(rendering)} in all{opening > 0 && `, ${length(opening)} of it to open scenes`}.
        </Text>
      )}
      <Box asChild fontSize="sm" color="fg.muted">
        <details>
          <summary>What this rests on</summary>
          <Stack gap="1" mt="2">
            {f.rests_on?.map((r) => (
              <Text key={r}>{r}</Text>
            ))}
          </Stack>
        </details>
      </Box>
    </Stack>
  );
}
