import type { Schemas } from "../api/client";
import { usePlanEffects } from "../api/queries";
import { chance, moment, money } from "../parts/format";
import { Go } from "../parts/Go";
import { List } from "../parts/List";
import { Sheet } from "../parts/Page";

type Effect = Schemas["PlanEffect"];

const change = (before: string, after: string) => (before === after ? after : `${before} → ${after}`);
const ends = (t?: string) => (t ? moment(t) : "never");

/** What carrying the plan out would do to open runs; nothing where it does nothing. */
export function Effects({ plan }: { plan: string }) {
  const effects = usePlanEffects(plan);
  if (!effects.data?.items.length) return null;
  return (
    <Sheet title="What it does to other runs" aside="as they would stand beside it">
      <List
        label="Other runs"
        rows={effects.data.items}
        keyOf={(x: Effect) => x.run}
        columns={[
          { name: "Run", cell: (x) => <Go to={`/runs/${x.run}`}>{x.run.slice(0, 8)}</Go> },
          { name: "Shots", cell: (x) => x.shots.join(", ") },
          { name: "Due", cell: (x) => moment(x.deadline) },
          { name: "Ends", cell: (x) => change(ends(x.finish_before), ends(x.finish_after)) },
          { name: "In time", cell: (x) => change(chance(x.chance_before), chance(x.chance_after)) },
          {
            name: "Its rest costs",
            cell: (x) => change(money(x.currency, x.cost_before), money(x.currency, x.cost_after)),
          },
          { name: "Moved", cell: (x) => `${x.moved} of ${x.frames}` },
          { name: "Planned", cell: (x) => (x.together ? "together with it" : "around it") },
        ]}
      />
    </Sheet>
  );
}
