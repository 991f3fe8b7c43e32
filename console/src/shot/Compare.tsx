import { Flex, Grid, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { type Sort, useComparison } from "../api/queries";
import { Choice } from "../parts/Choice";
import { bytes, length, money, none, opening } from "../parts/format";
import { List } from "../parts/List";
import { Figure, Sheet, State } from "../parts/Page";
import { Empty, Shown } from "../parts/States";
import { Divisions } from "./Divisions";
import { Scaling } from "./Scaling";
import { Stretches } from "./Stretches";
import { SweepNow } from "./Sweep";
import { Trials } from "./Trials";

type Comparison = Schemas["Comparison"];
type Crew = Schemas["CrewFigures"];

export const nameOf = (c: Crew) => `${c.place}/${c.crew}`;

/** Crews of which something is known; of several alike that were not timed, the first. */
export function distinct(crews: Crew[]): { crew: Crew; alike: number }[] {
  const out: { crew: Crew; alike: number }[] = [];
  for (const c of crews) {
    if (!c.seconds) continue;
    const same = out.find(
      (o) =>
        !c.timed &&
        !o.crew.timed &&
        o.crew.place === c.place &&
        o.crew.models.join() === c.models.join() &&
        Math.abs((o.crew.seconds ?? 0) / (c.seconds ?? 1) - 1) < 0.01,
    );
    if (same) same.alike++;
    else out.push({ crew: c, alike: 0 });
  }
  return out;
}

const times = (x?: number) => (x ? `${x.toFixed(2)}×` : none);
const whole = (x?: number) => (x ? `${Math.round(100 * x)} %` : none);

function difference(c: Crew, baseline: string) {
  if (nameOf(c) === baseline) return <Text color="fg.muted">baseline</Text>;
  if (!c.difference?.method) return none;
  if (!c.difference.shown) return <Text title={c.difference.method}>none shown</Text>;
  return (
    <Text title={c.difference.method}>
      {c.difference.low.toFixed(2)}–{c.difference.high.toFixed(2)}×
    </Text>
  );
}

function quantity(x?: number) {
  if (!x) return none;
  if (x >= 1e6) return `${(x / 1e6).toFixed(2)} M`;
  return x >= 1e3 ? `${(x / 1e3).toFixed(0)} k` : x.toFixed(0);
}

function Figures({ x }: { x: Comparison }) {
  const known = x.crews.filter((c) => c.seconds);
  const fastest = known.reduce((a, b) => ((a.seconds ?? 0) <= (b.seconds ?? 0) ? a : b));
  const owned = known.filter((c) => Number(c.frame_cost) > 0);
  const cheapest = owned.length ? owned.reduce((a, b) => (Number(a.frame_cost) <= Number(b.frame_cost) ? a : b)) : null;
  const best = [...x.divisions].sort((a, b) => (b.ways[0]?.frames_hour ?? 0) - (a.ways[0]?.frames_hour ?? 0))[0];
  return (
    <Grid templateColumns="repeat(auto-fit, minmax(220px, 1fr))" gap="6">
      <Figure
        label="Fastest crew for a frame"
        value={length(fastest.seconds)}
        beside={`${nameOf(fastest)}, ${fastest.basis}; ${length(fastest.low_s)} to ${length(fastest.high_s)}`}
      />
      {cheapest && (
        <Figure
          label="Cheapest frame"
          value={money(x.currency, cheapest.frame_cost)}
          beside={`${nameOf(cheapest)}, ${cheapest.basis}`}
        />
      )}
      {best && (
        <Figure
          label="Most frames an hour"
          value={`${Math.round(best.ways[0]?.frames_hour ?? 0)} frames`}
          beside={`${best.place}: ${best.best.split(":")[0]}`}
        />
      )}
      <Figure
        label="Until the deadline"
        value={x.left_s ? length(x.left_s) : none}
        beside={`${known.filter((c) => c.meets).length} of ${known.length} crews could do it alone`}
      />
    </Grid>
  );
}

function Crews({ x }: { x: Comparison }) {
  return (
    <List
      label="Crews"
      rows={distinct(x.crews)}
      keyOf={(r) => nameOf(r.crew)}
      columns={[
        {
          name: "Crew",
          cell: ({ crew, alike }) => (
            <Text>
              {nameOf(crew)}
              {alike > 0 && (
                <Text as="span" color="fg.muted">
                  {" "}
                  and {alike} alike
                </Text>
              )}
            </Text>
          ),
        },
        {
          name: "Basis",
          cell: ({ crew }) => (
            <Flex gap="1.5" align="center" title={crew.note}>
              <State>{crew.basis}</State>
              {crew.timed ? <Text color="fg.muted">{crew.timed}</Text> : null}
            </Flex>
          ),
        },
        { name: "A frame", cell: ({ crew }) => <b>{length(crew.seconds)}</b>, right: true },
        { name: "90 % interval", cell: ({ crew }) => `${length(crew.low_s)} – ${length(crew.high_s)}`, right: true },
        ...(x.crews.some((c) => c.opening_s)
          ? [{ name: "Opening", cell: ({ crew }: { crew: Crew }) => opening(crew), right: true }]
          : []),
        { name: "Frames/h", cell: ({ crew }) => crew.frames_hour?.toFixed(1), right: true },
        { name: "Samples/s", cell: ({ crew }) => quantity(crew.samples_second), right: true },
        { name: "Speed-up", cell: ({ crew }) => times(crew.speedup), right: true },
        { name: "Difference", cell: ({ crew }) => difference(crew, x.baseline), right: true },
        { name: "Efficiency", cell: ({ crew }) => whole(crew.efficiency), right: true },
        { name: "Use", cell: ({ crew }) => whole(crew.use), right: true },
        { name: "Peak", cell: ({ crew }) => bytes((crew.peak_gb ?? 0) * 1e9), right: true },
        { name: "Host peak", cell: ({ crew }) => bytes((crew.host_peak_gb ?? 0) * 1e9), right: true },
        { name: "A frame costs", cell: ({ crew }) => money(x.currency, crew.frame_cost), right: true },
        { name: "Whole shot", cell: ({ crew }) => length(crew.whole_s), right: true },
        {
          name: "In time",
          cell: ({ crew }) =>
            x.deadline ? <Text color={crew.meets ? undefined : "failed"}>{crew.meets ? "yes" : "no"}</Text> : none,
        },
      ]}
    />
  );
}

function Asides({ x }: { x: Comparison }) {
  const method = x.crews.find((c) => c.difference?.method)?.difference?.method;
  const unlike = x.crews.filter((c) => c.cautions?.length);
  const cautions = unlike.length
    ? [
        `${unlike.map(nameOf).join(", ")} ${unlike.length > 1 ? "were" : "was"} timed in other conditions than the baseline; ${unlike[0] ? nameOf(unlike[0]) : ""} was ${unlike[0]?.cautions?.join(", ")}.`,
      ]
    : [];
  const lines = [
    x.note,
    method && `A difference is one where the ${method} leaves 1 out (95 %).`,
    ...cautions.map((c) => `Caution: ${c}`),
    ...x.unlike.map(
      (u) =>
        `Not compared: ${u.place}/${u.crew} took ${length(u.seconds)} with ${u.settings.map((s) => `${s.name} ${s.then || none}, now ${s.now || none}`).join("; ")}.`,
    ),
  ].filter(Boolean);
  return (
    <Stack gap="1" mt="3" fontSize="sm" color="fg.muted">
      {lines.map((l) => (
        <Text key={l}>{l}</Text>
      ))}
    </Stack>
  );
}

function Devices({ x }: { x: Comparison }) {
  if (x.devices.length === 0) return null;
  return (
    <Sheet title="One more of each device" aside="As a crew of its own, beside all that could render the shot.">
      <List
        label="Devices"
        rows={x.devices}
        keyOf={(d) => `${d.model}${d.place}`}
        columns={[
          { name: "Device", cell: (d) => d.model },
          { name: "As on", cell: (d) => d.place },
          { name: "Frames/h", cell: (d) => d.frames_hour.toFixed(1), right: true },
          { name: "Saves", cell: (d) => length(3600 * (d.hours_saved ?? 0)), right: true },
          {
            name: `Frames for 1 ${x.currency} of running`,
            cell: (d) => (d.frames_per_money ? Math.round(d.frames_per_money).toLocaleString() : none),
            right: true,
          },
          { name: "Price", cell: (d) => (d.price ? money(x.currency, d.price) : none), right: true },
          {
            name: `Frames/h for 1000 ${x.currency} of price`,
            cell: (d) => d.frames_hour_per_price?.toFixed(1) ?? none,
            right: true,
          },
        ]}
      />
    </Sheet>
  );
}

/** Crews side by side. */
export function Compare({ shot }: { shot: Schemas["Shot"] }) {
  const name = shot.spec.name;
  const [sort, setSort] = useState<Sort>("seconds");
  const [baseline, setBaseline] = useState("");
  const query = useComparison(name, baseline, sort);
  return (
    <Stack gap="6">
      <SweepNow shot={name} />
      <Shown query={query}>
        {(x) =>
          x.baseline === "" ? (
            <Empty title="No frame of this shot was timed yet" command={`rotanex trials sweep ${name}`}>
              A sweep times the few crews that tell most; the timing model says the rest.
            </Empty>
          ) : (
            <Stack gap="6">
              <Figures x={x} />
              <Grid templateColumns={{ base: "1fr", xl: "3fr 2fr" }} gap="6">
                <Scaling x={x} />
                <Stretches stretches={x.stretches} />
              </Grid>
              <Sheet
                title="Crews"
                aside={
                  <Flex gap="4">
                    <Choice
                      label="Speed-ups against"
                      value={baseline || x.baseline}
                      options={x.crews.filter((c) => c.seconds).map(nameOf)}
                      onChange={setBaseline}
                    />
                    <Choice
                      label="Sorted by"
                      value={sort}
                      options={[
                        { value: "seconds", text: "seconds a frame" },
                        { value: "cost", text: "cost of a frame" },
                        { value: "efficiency", text: "efficiency" },
                        { value: "crew", text: "name" },
                      ]}
                      onChange={setSort}
                    />
                  </Flex>
                }
              >
                <Crews x={x} />
                <Asides x={x} />
              </Sheet>
              <Divisions divisions={x.divisions} />
              <Devices x={x} />
            </Stack>
          )
        }
      </Shown>
      <Trials shot={name} />
    </Stack>
  );
}
