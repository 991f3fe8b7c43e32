import { Box, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { useSourceComparison } from "../api/queries";
import { Choice } from "../parts/Choice";
import { count, length, moment, money, none } from "../parts/format";
import { List } from "../parts/List";
import { Sheet, State } from "../parts/Page";
import { Empty, Shown } from "../parts/States";

type Comparison = Schemas["SourceComparison"];
type Row = Schemas["SourceRow"];

const part = (x?: number) => (x === undefined ? none : `${Math.round(100 * x)} %`);

function marks(r: Row) {
  if (r.status === "impossible") return <State>impossible</State>;
  return (
    <>
      {r.status === "late" && <State>late</State>}
      {(r.marks ?? []).map((m) => (
        <Box as="span" key={m} mr="1">
          <State>{m}</State>
        </Box>
      ))}
    </>
  );
}

/** A table of sources: what the same work takes on each. */
export function SourceTable({ title, aside, x }: { title: string; aside?: string; x: Comparison }) {
  const charged = x.basis === "charged";
  return (
    <Sheet title={title} aside={aside}>
      <List
        label={title}
        rows={x.rows}
        keyOf={(r) => r.source}
        columns={[
          { name: "Source", cell: (r) => <Text fontWeight={r.source === "best mix" ? 600 : 400}>{r.source}</Text> },
          { name: "", cell: marks },
          { name: charged ? "Charged" : "Cost", cell: (r) => money(x.currency, r.cost), right: true },
          ...(charged
            ? [{ name: "Estimated", cell: (r: Row) => money(x.currency, r.estimated), right: true }]
            : [{ name: "Saves", cell: (r: Row) => money(x.currency, r.saving), right: true }]),
          { name: "Elapsed", cell: (r) => length(r.elapsed_s), right: true },
          { name: "Summed", cell: (r) => length(r.rendered_s), right: true },
          { name: "Frames", cell: (r) => r.usable ?? none, right: true },
          ...(charged ? [{ name: "Failed tries", cell: (r: Row) => r.failed ?? 0, right: true }] : []),
          { name: "A frame", cell: (r) => money(x.currency, r.frame_cost), right: true },
          { name: "Paid", cell: (r) => length(r.paid_s), right: true },
          {
            name: "Paid, unused",
            cell: (r) =>
              r.unused_cost ? <Text title={length(r.unused_s)}>{money(x.currency, r.unused_cost)}</Text> : none,
            right: true,
          },
          ...(charged ? [] : [{ name: "Measured", cell: (r: Row) => part(r.measured_share), right: true }]),
        ]}
      />
      <Unsupported x={x} />
    </Sheet>
  );
}

function Unsupported({ x }: { x: Comparison }) {
  const rows = x.rows.filter((r) => r.unsupported?.length);
  if (rows.length === 0) return null;
  return (
    <Box mt="4" fontSize="sm" color="fg.muted">
      {rows.map((r) => (
        <details key={r.source}>
          <summary>
            {r.source}: {count(r.unsupported?.length ?? 0, "place")} left out
          </summary>
          {r.unsupported?.map((u) => (
            <Text key={u} pl="4">
              {u}
            </Text>
          ))}
        </details>
      ))}
    </Box>
  );
}

const usual = "your own hosts";

/** The same work on each source and on the best mix, before anything is spent. */
export function SourcesOf({ shot }: { shot: string }) {
  const [baseline, setBaseline] = useState(usual);
  const compared = useSourceComparison(shot, baseline === usual ? "" : baseline);
  return (
    <Shown query={compared} path={`/shots/${shot}/sources`}>
      {(x) =>
        x.rows.length === 0 ? (
          <Empty title="Nothing to compare">No source can be planned with yet.</Empty>
        ) : (
          <Stack gap="5">
            <Choice
              label="Savings against"
              value={baseline}
              options={[usual, ...x.rows.map((r) => r.source).filter((s) => s !== "best mix")]}
              onChange={setBaseline}
            />
            <SourceTable
              title="All frames, on each source alone and on the best mix"
              aside={`by ${moment(x.by)}`}
              x={x}
            />
          </Stack>
        )
      }
    </Shown>
  );
}
