import { Flex, Grid, Stack, Text, useToken } from "@chakra-ui/react";
import { useState } from "react";
import { useParams } from "react-router";
import { Area, AreaChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import type { Schemas } from "../api/client";
import { useHost, useHostWhy, useSamples } from "../api/queries";
import { Change } from "../forms/Make";
import { Choice } from "../parts/Choice";
import { DeskLine } from "../parts/DeskLine";
import { none, timeOfDay } from "../parts/format";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { DoneTo } from "../parts/Records";
import { Empty, Shown } from "../parts/States";
import { Verdicts } from "../parts/Verdicts";

type Series = Schemas["SampleSeries"];
type Quantity = {
  name: string;
  of: (s: Series, i: number) => number;
  unit: string;
  top?: (s: Series) => number;
  digits: number;
};

const quantities: Quantity[] = [
  { name: "Use", of: (s, i) => 100 * (s.use?.[i] ?? 0), unit: "%", top: () => 100, digits: 0 },
  {
    name: "Memory",
    of: (s, i) => (s.memory_bytes?.[i] ?? 0) / 1e9,
    unit: "GB",
    top: (s) => (s.memory_limit_bytes ?? 0) / 1e9,
    digits: 1,
  },
  { name: "Temperature", of: (s, i) => s.celsius?.[i] ?? 0, unit: "°C", digits: 0 },
  { name: "Power", of: (s, i) => s.watts?.[i] ?? 0, unit: "W", digits: 0 },
];

function Trace({ series, quantity }: { series: Series; quantity: Quantity }) {
  const [muted, line, done, paper, fg] = useToken("colors", ["fg.muted", "line", "done", "paper", "fg"]);
  const points = series.at.map((at, i) => ({
    at: Date.parse(at),
    value: quantity.of(series, i),
    crew: series.crew?.[i] ?? "",
  }));
  const last = points[points.length - 1]?.value ?? 0;
  const value = (n: number) => `${n.toFixed(quantity.digits)} ${quantity.unit}`;
  const told =
    points.some((p) => p.value > 0) ||
    (series.device !== "cpu" && quantity.name !== "Power") ||
    quantity.name === "Use";
  return (
    <Stack gap="1" minW="0">
      <Flex justify="space-between" fontSize="sm">
        <Text color="fg.muted">{quantity.name}</Text>
        <Text>{told ? value(last) : "not told"}</Text>
      </Flex>
      <figure aria-label={`${quantity.name} of ${series.device} over time, now ${value(last)}`} style={{ height: 96 }}>
        <ResponsiveContainer width="100%" height="100%">
          <AreaChart data={points} margin={{ top: 2, right: 2, bottom: 0, left: 2 }}>
            <CartesianGrid stroke={line} vertical={false} />
            <XAxis
              dataKey="at"
              type="number"
              domain={["dataMin", "dataMax"]}
              tickFormatter={(t: number) => timeOfDay(new Date(t))}
              stroke={muted}
              tick={{ fontSize: 11 }}
              tickCount={4}
            />
            <YAxis hide domain={[0, quantity.top?.(series) || "auto"]} />
            <Tooltip
              contentStyle={{ background: paper, borderColor: line, color: fg }}
              labelFormatter={(t) => timeOfDay(new Date(Number(t)))}
              formatter={(v, _, item) => [
                value(Number(v)),
                item.payload.crew ? `rendering in ${item.payload.crew}` : "idle",
              ]}
            />
            <Area dataKey="value" stroke={done} fill={done} fillOpacity={0.22} isAnimationActive={false} type="step" />
          </AreaChart>
        </ResponsiveContainer>
      </figure>
    </Stack>
  );
}

function Device({ series }: { series: Series }) {
  const crew = series.crew?.[series.crew.length - 1];
  return (
    <Sheet
      title={
        <Flex gap="3" align="center">
          {series.device} <Text fontWeight="normal">{series.model}</Text>
        </Flex>
      }
      aside={crew ? `rendering in crew ${crew}` : "idle"}
    >
      <Grid templateColumns="repeat(auto-fit, minmax(210px, 1fr))" gap="6">
        {quantities.map((q) => (
          <Trace key={q.name} series={series} quantity={q} />
        ))}
      </Grid>
    </Sheet>
  );
}

/** What one host is and what its devices do over time. */
export function Host() {
  const { name = "" } = useParams();
  const host = useHost(name);
  const [minutes, setMinutes] = useState("120");
  const samples = useSamples(name, Number(minutes));
  const why = useHostWhy(name);
  return (
    <Page
      title={name}
      lead={host.data?.spec.note}
      actions={
        <>
          {host.data && <Change of="hosts" name={name} />}
          <Choice
            label="Over"
            value={minutes}
            options={[
              { value: "30", text: "half an hour" },
              { value: "120", text: "two hours" },
              { value: "720", text: "twelve hours" },
              { value: "2880", text: "two days" },
            ]}
            onChange={setMinutes}
          />
        </>
      }
    >
      <Stack gap="5">
        {why.data && (
          <Sheet title="Now">
            <Stack gap="3">
              <Text>{why.data.answer}</Text>
              {host.data?.desk && <DeskLine desk={host.data.desk} />}
              <Verdicts label="What its crews may take" crews={why.data.crews} shots />
            </Stack>
          </Sheet>
        )}
        <Shown query={samples}>
          {(s) =>
            s.devices.length === 0 ? (
              <Empty title="Its agent has told nothing in this time" command="rotanex-agent --service …">
                Use, memory, temperature and power come with every heartbeat.
              </Empty>
            ) : (
              [...s.devices]
                .sort((a, b) => Number(a.device === "cpu") - Number(b.device === "cpu"))
                .map((d) => <Device key={d.device} series={d} />)
            )
          }
        </Shown>
        <Shown query={host}>
          {(h) => (
            <Sheet
              title="Renderers"
              aside={
                h.folder && `renders to ${h.folder.filesystem || "a folder"}, ${h.folder.free_gb.toFixed(0)} GB free`
              }
            >
              <List
                label="Renderers"
                rows={h.renderers ?? []}
                keyOf={(r) => r.launcher}
                columns={[
                  { name: "Launcher", cell: (r) => r.launcher },
                  { name: "Version", cell: (r) => (r.trouble ? <State>failed</State> : (r.version ?? none)) },
                  { name: "Plugins", cell: (r) => r.plugins?.join(", ") || none },
                  { name: "Renders on", cell: (r) => (r.cpu_only ? "the CPU alone" : "any crew") },
                  {
                    name: "Where memory does not do",
                    cell: (r) =>
                      [r.shares && "shares", r.spills && "spills", r.falls_back && "falls back"]
                        .filter(Boolean)
                        .join(", ") || none,
                  },
                  { name: "Trouble", cell: (r) => r.trouble ?? none },
                ]}
              />
              {(h.missing?.length ?? 0) > 0 && (
                <Text mt="3" color="failed">
                  Missing input files: {h.missing?.join(", ")}
                </Text>
              )}
            </Sheet>
          )}
        </Shown>
        <DoneTo about={`/hosts/${name}`} />
      </Stack>
    </Page>
  );
}
