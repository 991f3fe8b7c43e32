import { useToken } from "@chakra-ui/react";
import {
  Area,
  CartesianGrid,
  ComposedChart,
  Legend,
  Line,
  ResponsiveContainer,
  Scatter,
  Tooltip,
  XAxis,
  YAxis,
} from "recharts";
import type { Schemas } from "../api/client";
import { length } from "../parts/format";
import { Sheet } from "../parts/Page";

type Point = Schemas["ScalingPoint"];

/** The points by how many devices, one series for each place and model. */
export function seriesOf(points: Point[]) {
  const names = [...new Set(points.map((p) => `${p.place}, ${p.model}`))];
  const counts = [...new Set(points.map((p) => p.devices))].sort((a, b) => a - b);
  const rows = counts.map((devices) => {
    const row: Record<string, number | [number, number]> = { devices };
    for (const p of points.filter((p) => p.devices === devices)) {
      const name = `${p.place}, ${p.model}`;
      row[name] = p.seconds;
      row[`${name} interval`] = [p.low_s, p.high_s];
      if (p.measured_s) row[`${name} measured`] = p.measured_s;
    }
    return row;
  });
  return { names, rows };
}

export const lineColours = ["#2b8a7f", "#b07a2a", "#5b7fb0", "#a35a70", "#6f9349", "#8470b3"];

/** Seconds a frame by how many like GPUs a crew has: predicted line with its interval,
 * measured points. */
export function Scaling({ x }: { x: Schemas["Comparison"] }) {
  const [muted, line, paper, fg] = useToken("colors", ["fg.muted", "line", "paper", "fg"]);
  const { names, rows } = seriesOf(x.scaling);
  if (names.length === 0) return null;
  return (
    <Sheet title="How crews scale" aside="Line and 90 % band predicted, points measured.">
      <figure aria-label={`Seconds a frame by the number of GPUs, for ${names.join("; ")}`} style={{ height: 330 }}>
        <ResponsiveContainer width="100%" height="100%">
          <ComposedChart data={rows} margin={{ top: 10, right: 24, bottom: 22, left: 8 }}>
            <CartesianGrid stroke={line} vertical={false} />
            <XAxis
              dataKey="devices"
              type="number"
              domain={[0.8, "dataMax"]}
              ticks={rows.map((r) => r.devices as number)}
              stroke={muted}
              tick={{ fontSize: 13 }}
              label={{ value: "GPUs in the crew", position: "insideBottom", offset: -12, fill: muted, fontSize: 13 }}
            />
            <YAxis
              stroke={muted}
              tick={{ fontSize: 13 }}
              width={64}
              domain={[0, "auto"]}
              tickFormatter={(s: number) => `${Math.round(s)} s`}
            />
            <Tooltip
              contentStyle={{ background: paper, borderColor: line, color: fg }}
              labelFormatter={(n) => `${n} GPUs`}
              formatter={(v) =>
                Array.isArray(v) ? `${length(Number(v[0]))} – ${length(Number(v[1]))}` : length(Number(v))
              }
            />
            <Legend
              verticalAlign="top"
              align="left"
              height={30}
              wrapperStyle={{ fontSize: 13 }}
              formatter={(name) => <span style={{ color: fg }}>{name}</span>}
            />
            {names.map((name, i) => (
              <Area
                key={`${name} interval`}
                dataKey={`${name} interval`}
                stroke="none"
                fill={lineColours[i % lineColours.length]}
                fillOpacity={0.16}
                legendType="none"
                isAnimationActive={false}
              />
            ))}
            {names.map((name, i) => (
              <Line
                key={name}
                dataKey={name}
                stroke={lineColours[i % lineColours.length]}
                strokeWidth={2}
                dot={false}
                legendType="plainline"
                isAnimationActive={false}
              />
            ))}
            {names.map((name, i) => (
              <Scatter
                key={`${name} measured`}
                dataKey={`${name} measured`}
                fill={lineColours[i % lineColours.length]}
                legendType="none"
                isAnimationActive={false}
              />
            ))}
          </ComposedChart>
        </ResponsiveContainer>
      </figure>
    </Sheet>
  );
}
