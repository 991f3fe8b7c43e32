import { Box, Flex, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { Choice } from "../parts/Choice";
import { length, money, none, sum } from "../parts/format";
import { List } from "../parts/List";
import { opening } from "../parts/opening";
import { Sheet } from "../parts/Page";

type EntryList = Schemas["EntryList"];

const everything = "all";

/** The ledger by entry: what, where, estimated, charged, and why they differ. */
export function Entries({ title, list }: { title: string; list: EntryList }) {
  const [source, setSource] = useState(everything);
  const [shot, setShot] = useState(everything);
  const names = (of: (e: EntryList["items"][number]) => string | undefined) => [
    everything,
    ...[...new Set(list.items.map(of).filter((x): x is string => !!x))].sort(),
  ];
  const rows = list.items.filter(
    (e) => (source === everything || e.source === source) && (shot === everything || e.shot === shot),
  );
  return (
    <Sheet
      title={title}
      aside={
        <>
          {money(list.currency, list.charged)} charged, {money(list.currency, list.estimated)} estimated; failed tries{" "}
          {money(list.currency, list.failed_cost)}, paid and unused {money(list.currency, list.unused_cost)}
        </>
      }
    >
      <Stack gap="4">
        <Flex gap="5" align="end">
          <Choice label="Source" value={source} options={names((e) => e.source)} onChange={setSource} />
          <Choice label="Shot" value={shot} options={names((e) => e.shot)} onChange={setShot} />
          <Text color="fg.muted" fontSize="sm" pb="2">
            {rows.length} entries: {money(list.currency, sum(rows.map((e) => e.charged)))} charged,{" "}
            {money(list.currency, sum(rows.map((e) => e.estimated)))} estimated
          </Text>
        </Flex>
        <Box maxH="460px" overflowY="auto">
          <List
            label={title}
            rows={rows}
            keyOf={(e) => [e.run, e.day, e.place, e.crew, e.shot, e.kind, e.why].join()}
            columns={[
              { name: "Day", value: (e) => e.day, cell: (e) => e.day },
              {
                name: "Where",
                value: (e) => (e.crew ? `${e.place}/${e.crew}` : e.place),
                cell: (e) => (e.crew ? `${e.place}/${e.crew}` : e.place),
              },
              { name: "Shot", value: (e) => e.shot, cell: (e) => e.shot ?? none },
              { name: "For", value: (e) => e.kind, cell: (e) => e.kind },
              { name: "Frames", value: (e) => e.frames, cell: (e) => e.frames || none, right: true },
              { name: "Time", value: (e) => e.seconds, cell: (e) => length(e.seconds), right: true },
              ...opening(list.items, (e) => length(e.opening_s)),
              {
                name: "Estimated",
                value: (e) => e.estimated,
                cell: (e) => money(list.currency, e.estimated),
                right: true,
              },
              {
                name: "Charged",
                value: (e) => e.charged,
                cell: (e) => money(list.currency, e.charged),
                right: true,
              },
              {
                name: "Why they differ",
                cell: (e) => (
                  <Text whiteSpace="normal" minW="240px" fontSize="sm">
                    {[e.why, e.metered && `its meter: ${e.metered}`].filter(Boolean).join("; ") || none}
                  </Text>
                ),
              },
            ]}
          />
        </Box>
      </Stack>
    </Sheet>
  );
}
