import { Box, Button, Flex, Link as Styled, Text, useToken } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { answered, client, type Schemas } from "../api/client";
import { Computing } from "../parts/Computing";
import { moment, money, timeOfDay } from "../parts/format";
import { Sheet } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Failed } from "../parts/States";

type Point = Schemas["CurvePoint"];

/** The trade-off curve: what an earlier finish costs. Each point is a plan. */
export function Tradeoff({ plan }: { plan: Schemas["Plan"] }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const ask = () => answered(client.POST("/plans/{plan}/curve", { params: { path: { plan: plan.id } } }));
  // One that was drawn already is only fetched.
  const kept = useQuery<Schemas["Curve"]>({ queryKey: ["curve", plan.id], queryFn: ask, enabled: !!plan.curve_of });
  const draw = useMutation({
    mutationFn: ask,
    onSuccess: (curve) => {
      // Whichever of its points is opened, the curve is the same.
      for (const p of curve.points) cache.setQueryData(["curve", p.plan], curve);
      cache.setQueryData(["curve", plan.id], curve);
    },
  });
  return (
    <Sheet title="What an earlier finish costs" aside={kept.data && `Balanced is ${kept.data.rule}.`}>
      {kept.data ? (
        <Drawn curve={kept.data} here={plan.id} />
      ) : (
        <Flex align="center" gap="4" wrap="wrap">
          <Button variant="outline" loading={draw.isPending} disabled={!mayWrite} onClick={() => draw.mutate()}>
            Draw the trade-off curve
          </Button>
          <Text color="fg.muted" fontSize="sm">
            Plans for a dozen finish times between the fastest and the cheapest.
          </Text>
        </Flex>
      )}
      <Computing path={`/plans/${plan.id}/curve`} />
      {draw.error && (
        <Box mt="3">
          <Failed error={draw.error} />
        </Box>
      )}
    </Sheet>
  );
}

function Drawn({ curve, here }: { curve: Schemas["Curve"]; here: string }) {
  const go = useNavigate();
  const [muted, line, paper, fg, done, brass] = useToken("colors", [
    "fg.muted",
    "line",
    "paper",
    "fg",
    "done",
    "brass.solid",
  ]);
  const rows = curve.points.map((p) => ({ at: Date.parse(p.finish), cost: Number(p.cost), point: p }));
  return (
    <>
      <figure aria-label="Cost by finish time" style={{ height: 280 }}>
        <ResponsiveContainer width="100%" height="100%">
          <LineChart data={rows} margin={{ top: 12, right: 28, bottom: 4, left: 8 }}>
            <CartesianGrid stroke={line} vertical={false} />
            <XAxis
              dataKey="at"
              type="number"
              scale="time"
              domain={["dataMin", "dataMax"]}
              tickFormatter={(t: number) => timeOfDay(new Date(t))}
              stroke={muted}
              tick={{ fontSize: 12 }}
            />
            <YAxis
              stroke={muted}
              tick={{ fontSize: 12 }}
              width={76}
              domain={[0, "auto"]}
              tickFormatter={(v: number) => money(curve.currency, v.toFixed(2))}
            />
            <Tooltip
              contentStyle={{ background: paper, borderColor: line, color: fg }}
              labelFormatter={(t) => moment(new Date(Number(t)))}
              formatter={(v) => [money(curve.currency, Number(v).toFixed(2)), "cost"]}
            />
            <Line
              dataKey="cost"
              type="stepAfter"
              stroke={done}
              strokeWidth={2}
              isAnimationActive={false}
              dot={({ cx, cy, payload }) => (
                // biome-ignore lint/a11y/noStaticElementInteractions: the same points are links below
                <circle
                  key={payload.at}
                  cx={cx}
                  cy={cy}
                  r={payload.point.plan === here ? 8 : 5.5}
                  fill={payload.point.mark ? brass : done}
                  stroke={paper}
                  strokeWidth={2}
                  style={{ cursor: "pointer" }}
                  onClick={() => go(`/plans/${payload.point.plan}`)}
                />
              )}
            />
          </LineChart>
        </ResponsiveContainer>
      </figure>
      <Flex gap="2" wrap="wrap" mt="3">
        {curve.points.map((p) => (
          <PointLink key={p.plan} p={p} currency={curve.currency} here={p.plan === here} />
        ))}
      </Flex>
    </>
  );
}

function PointLink({ p, currency, here }: { p: Point; currency: string; here: boolean }) {
  return (
    <Styled
      asChild
      fontSize="sm"
      borderWidth={here ? "2px" : "1px"}
      borderColor={p.mark ? "brass.solid" : "line"}
      rounded="md"
      px="2.5"
      py="1"
      textDecoration="none"
    >
      <Link to={`/plans/${p.plan}`} aria-current={here ? "page" : undefined}>
        {p.mark && <b>{p.mark}:&nbsp;</b>}
        {money(currency, p.cost)}, {moment(p.finish)}
      </Link>
    </Styled>
  );
}
