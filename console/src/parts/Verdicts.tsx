import { Button, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { useHostWhy } from "../api/queries";
import { moment, none } from "./format";
import { List } from "./List";
import { State } from "./Page";

type Verdict = Schemas["CrewVerdict"];

/** What the rule says of crews: who takes a frame, when, and why the others do not. */
export function Verdicts({ label, crews, shots }: { label: string; crews: Verdict[]; shots?: boolean }) {
  if (crews.length === 0) return null;
  return (
    <List
      label={label}
      rows={crews.map((v, i) => ({ ...v, key: `${v.host}/${v.crew} ${v.run} ${v.shot} ${i}` }))}
      keyOf={(v) => v.key}
      columns={[
        { name: "Crew", cell: (v) => (shots ? v.crew : `${v.host}/${v.crew}`) },
        ...(shots ? [{ name: "Shot", cell: (v: Verdict) => v.shot }] : []),
        { name: shots ? "Takes one" : "Takes it", cell: (v) => <State>{v.when}</State> },
        { name: "At", cell: (v) => (v.at ? moment(v.at) : none) },
        { name: "Owes", cell: (v) => v.owed, right: true },
        {
          name: "Why",
          cell: (v) => (
            <Text whiteSpace="normal" minW="16rem">
              {v.why}
            </Text>
          ),
        },
      ]}
    />
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
