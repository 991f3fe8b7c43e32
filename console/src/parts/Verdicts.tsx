import { Button, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { useHostWhy } from "../api/queries";
import { moment, none } from "./format";
import { List } from "./List";
import { State } from "./Page";

type Verdict = Schemas["CrewVerdict"];

const columnsOf = (shots?: boolean) => [
  { name: "Crew", cell: (v: Verdict) => (shots ? v.crew : `${v.host}/${v.crew}`) },
  ...(shots ? [{ name: "Shot", cell: (v: Verdict) => v.shot }] : []),
  { name: shots ? "Takes one" : "Takes it", cell: (v: Verdict) => <State>{v.when}</State> },
  { name: "At", cell: (v: Verdict) => (v.at ? moment(v.at) : none) },
  { name: "Owes", cell: (v: Verdict) => v.owed, right: true },
  {
    name: "Why",
    cell: (v: Verdict) => (
      <Text whiteSpace="normal" minW="16rem">
        {v.why}
      </Text>
    ),
  },
];

/**
 * What the rule says of crews: who takes a frame, when, and why the others do not. Reserves that
 * take nothing now are many, and shown when somebody asks.
 */
export function Verdicts({ label, crews, shots }: { label: string; crews: Verdict[]; shots?: boolean }) {
  const [all, setAll] = useState(false);
  const keyed = crews.map((v, i) => ({ ...v, key: `${v.host}/${v.crew} ${v.run} ${v.shot} ${i}` }));
  const first = keyed.filter((v) => v.when === "now" || v.owed > 0);
  const shown = all || keyed.length <= 4 ? keyed : first;
  const more = keyed.length - shown.length;
  if (keyed.length === 0) return null;
  return (
    <Stack gap="2" align="start">
      {shown.length > 0 && <List label={label} rows={shown} keyOf={(v) => v.key} columns={columnsOf(shots)} />}
      {more > 0 && (
        <Button size="xs" variant="outline" onClick={() => setAll(true)}>
          Show {more} reserves
        </Button>
      )}
    </Stack>
  );
}

/** Asks, when somebody wants to know, why a host's crews take no frame. */
export function WhyIdle({ host }: { host: string }) {
  const [asked, setAsked] = useState(false);
  const why = useHostWhy(host, asked);
  if (!asked)
    return (
      <Button size="xs" variant="outline" onClick={() => setAsked(true)} aria-label={`Why ${host} does nothing`}>
        why?
      </Button>
    );
  return (
    <Stack gap="1" maxW="28rem" whiteSpace="normal" role="status">
      <Text fontSize="sm" color="fg.muted">
        {why.isPending ? "asking…" : (why.data?.answer ?? why.error?.message)}
      </Text>
    </Stack>
  );
}
