import { Text } from "@chakra-ui/react";
import { useLedger } from "../api/queries";
import { length, money } from "../parts/format";
import { List } from "../parts/List";
import { opening } from "../parts/opening";
import { Sheet } from "../parts/Page";
import { Shown } from "../parts/States";

/** Time and money, planned and real, by crew. */
export function Account({ run, live }: { run: string; live: boolean }) {
  const ledger = useLedger(run, live);
  return (
    <Shown query={ledger}>
      {(l) => (
        <Sheet
          title="Ledger"
          aside={
            <>
              {money(l.currency, l.cost)} for {l.frames_done} frames
              {l.frame_cost && `, ${money(l.currency, l.frame_cost)} a frame`}
            </>
          }
        >
          <List
            label="Ledger"
            rows={l.rows}
            keyOf={(r) => r.place + r.crew}
            columns={[
              { name: "Where", value: (r) => `${r.place}/${r.crew}`, cell: (r) => `${r.place}/${r.crew}` },
              { name: "Source", value: (r) => r.source, cell: (r) => r.source },
              { name: "Booked", value: (r) => r.frames_planned, cell: (r) => r.frames_planned, right: true },
              { name: "Done", value: (r) => r.frames_done, cell: (r) => r.frames_done, right: true },
              {
                name: "Failed tries",
                value: (r) => r.failed,
                cell: (r) => (r.failed ? <Text color="failed">{r.failed}</Text> : 0),
                right: true,
              },
              { name: "Planned time", value: (r) => r.planned_s, cell: (r) => length(r.planned_s), right: true },
              { name: "Busy time", value: (r) => r.busy_s, cell: (r) => length(r.busy_s), right: true },
              ...opening(l.rows, (r) => length(r.opening_s)),
              { name: "Paid time", value: (r) => r.paid_s, cell: (r) => length(r.paid_s), right: true },
              {
                name: "Planned cost",
                value: (r) => r.planned_cost,
                cell: (r) => money(l.currency, r.planned_cost),
                right: true,
              },
              { name: "Real cost", value: (r) => r.cost, cell: (r) => money(l.currency, r.cost), right: true },
              {
                name: "A frame",
                value: (r) => r.frame_cost,
                cell: (r) => money(l.currency, r.frame_cost),
                right: true,
              },
            ]}
          />
        </Sheet>
      )}
    </Shown>
  );
}
