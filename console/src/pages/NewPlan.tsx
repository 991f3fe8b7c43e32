import { useQueryClient } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { useShots } from "../api/queries";
import { Make } from "../forms/Make";
import { SpecForm } from "../forms/SpecForm";
import { Computing } from "../parts/Computing";
import { Page, Sheet } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Empty, Shown } from "../parts/States";
import { makePlan } from "../plan/make";

const first = ["by", "confidence", "budget", "contingency", "priority", "rented"];

/** What is planned of a run's rest is asked for on the run's page. */
const hidden = { "ui:widget": "hidden" };

/** A plan with all that may be said of it. */
export function NewPlan() {
  const [params] = useSearchParams();
  const go = useNavigate();
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const shots = useShots();
  const chosen = (params.get("shots") ?? "").split(",").filter(Boolean);
  const make = async (value: Record<string, unknown>) => {
    const plan = await makePlan(value as Schemas["NewPlan"]);
    cache.invalidateQueries({ queryKey: ["plans"] });
    go(`/plans/${plan.id}`);
  };
  return (
    <Page
      title="New plan"
      lead="Which machine renders what, and when, so that it is in time and costs the least. Nothing begins before a plan is started."
    >
      {mayWrite ? (
        <Shown query={shots}>
          {(all) => {
            const known = all.filter((s) => !s.pass_of).map((s) => s.spec.name);
            if (known.length === 0)
              return (
                <Empty title="No shot to plan yet" next={<Make of="shots" />}>
                  A plan is made for shots: describe one first.
                </Empty>
              );
            return (
              <Sheet>
                <SpecForm
                  schema="NewPlan"
                  draft={chosen.length ? `plan of ${chosen.join(",")}` : "plan"}
                  stored={{ shots: chosen.filter((s) => known.includes(s)) }}
                  ui={{ "ui:first": first, shots: { "ui:known": known, "ui:wide": true }, run: hidden }}
                  save="Plan"
                  onSave={make}
                  waiting={<Computing path="/plans" />}
                />
              </Sheet>
            );
          }}
        </Shown>
      ) : (
        <Empty title="You may look, not plan">An operator's or an admin's token may plan.</Empty>
      )}
    </Page>
  );
}
