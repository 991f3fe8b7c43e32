import { Box, Flex, Grid, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { usePreflight } from "../api/queries";
import { Choice } from "../parts/Choice";
import { moment } from "../parts/format";
import { Figure, Sheet, State } from "../parts/Page";
import { Empty, Shown } from "../parts/States";

type Crew = Schemas["PreflightCrew"];
type Group = {
  place: string;
  source: string;
  crews: string[];
  verdict: Crew["verdict"];
  findings: Schemas["Finding"][];
};

/** Crews of a place of which the same is to be said, together. */
export function together(crews: Crew[]): Group[] {
  const out: Group[] = [];
  for (const c of crews) {
    const said = JSON.stringify(c.findings);
    const same = out.find((g) => g.place === c.place && JSON.stringify(g.findings) === said);
    if (same) same.crews.push(c.crew);
    else out.push({ place: c.place, source: c.source, crews: [c.crew], verdict: c.verdict, findings: c.findings });
  }
  return out;
}

function Line({ finding }: { finding: Schemas["Finding"] }) {
  return (
    <Grid templateColumns="5.5rem 6rem 1fr 1fr" gap="4" py="2" borderTopWidth="1px" borderColor="line" fontSize="sm">
      <Box>
        <State>{finding.level}</State>
      </Box>
      <Text color="fg.muted">{finding.check}</Text>
      <Text>{finding.text}</Text>
      <Text color="fg.muted">→ {finding.fix}</Text>
    </Grid>
  );
}

function Place({ place, groups }: { place: string; groups: Group[] }) {
  return (
    <Sheet title={place} aside={groups[0]?.source}>
      <Stack gap="5">
        {groups.map((g) => (
          <Box key={g.crews.join()}>
            <Flex gap="3" align="center" mb="1.5">
              <Text fontWeight="medium">
                {g.crews.slice(0, 6).join(", ")}
                {g.crews.length > 6 && ` and ${g.crews.length - 6} more`}
              </Text>
              {g.findings.length === 0 && <State>clear</State>}
            </Flex>
            {g.findings.map((f) => (
              <Line key={f.check + f.text} finding={f} />
            ))}
          </Box>
        ))}
      </Stack>
    </Sheet>
  );
}

/** What would stop a shot on each crew, before anything is spent. */
export function Preflight({ shot }: { shot: string }) {
  const query = usePreflight(shot);
  const [on, setOn] = useState("");
  return (
    <Shown query={query}>
      {(p) => {
        if (p.crews.length === 0) return <Empty title="No crew yet" command="rotanex hosts import stock.yaml" />;
        const sources = [...new Set(p.crews.map((c) => c.source))];
        const groups = together(p.crews.filter((c) => !on || c.source === on));
        const places = [...new Set(groups.map((g) => g.place))];
        return (
          <Stack gap="6">
            <Grid templateColumns="repeat(auto-fit, minmax(180px, 1fr))" gap="6">
              <Figure label="Clear" value={`${p.clear} crews`} beside="nothing to say" />
              <Figure label="Warnings" value={`${p.warned} crews`} beside="can be given the shot" />
              <Figure label="Not known yet" value={`${p.not_known} crews`} beside="plans leave them out until it is" />
              <Figure
                label="Blocked"
                value={`${p.blocked} crews`}
                beside="plans leave them out"
                alarm={p.blocked + p.not_known === p.crews.length}
              />
              <Figure label="Checked" value={moment(p.at)} beside="and again every few seconds" />
            </Grid>
            <Flex>
              <Choice label="Source" value={on} options={[{ value: "", text: "all" }, ...sources]} onChange={setOn} />
            </Flex>
            {places.map((place) => (
              <Place key={place} place={place} groups={groups.filter((g) => g.place === place)} />
            ))}
          </Stack>
        );
      }}
    </Shown>
  );
}
