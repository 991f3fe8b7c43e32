import { Button, Link as Styled } from "@chakra-ui/react";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { atOnce, usePlans } from "../api/queries";
import { chance, drift, moment, money, none } from "../parts/format";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { ShotNames } from "../parts/ShotNames";
import { Empty, Shown } from "../parts/States";

/** A plan that cannot be carried out costs nothing, and ends at no time. */
const possible = (p: Schemas["Plan"]) => p.status !== "impossible";

const NewPlanLink = () => (
  <Button asChild size="sm">
    <Link to="/plans/new">New plan</Link>
  </Button>
);

export function Plans() {
  const mayWrite = useMayWrite();
  const [hundreds, setHundreds] = useState(1);
  const plans = usePlans(hundreds);
  return (
    <Page
      title="Plans"
      lead="Schedules, each with its cost and the least that any schedule could cost."
      actions={mayWrite && <NewPlanLink />}
    >
      <Shown query={plans}>
        {({ items: all, more }) =>
          all.length === 0 ? (
            <Empty title="No plan yet" command="rotanex plan SHOT --by 20:00" next={mayWrite && <NewPlanLink />}>
              A plan says which machine renders what, and when, so that it is in time and costs the least.
            </Empty>
          ) : (
            <Sheet>
              <List
                label="Plans"
                rows={all}
                keyOf={(p) => p.id}
                columns={[
                  {
                    name: "Plan",
                    value: (p) => p.id.slice(0, 8),
                    cell: (p) => (
                      <Styled asChild color="brass.fg" fontWeight="medium">
                        <Link to={`/plans/${p.id}`}>{p.id.slice(0, 8)}</Link>
                      </Styled>
                    ),
                  },
                  { name: "Shots", value: (p) => p.shots.join(" "), cell: (p) => <ShotNames shots={p.shots} /> },
                  { name: "Status", value: (p) => p.status, cell: (p) => <State>{p.status}</State> },
                  {
                    name: "In time",
                    value: (p) => p.chance,
                    cell: (p) => (p.chance === undefined ? none : chance(p.chance)),
                    right: true,
                  },
                  {
                    name: "Cost",
                    value: (p) => (possible(p) ? p.cost : undefined),
                    cell: (p) => (possible(p) ? money(p.currency, p.cost) : none),
                    right: true,
                  },
                  {
                    name: "No less than",
                    cell: (p) => (p.status === "late" || !possible(p) ? none : money(p.currency, p.cost_bound)),
                    right: true,
                  },
                  {
                    name: "Finish",
                    value: (p) => (possible(p) ? p.finish : undefined),
                    cell: (p) => (possible(p) ? moment(p.finish) : none),
                  },
                  {
                    name: "Against the deadline",
                    cell: (p) => (p.deadline && possible(p) ? drift(p.finish, p.deadline).text : none),
                  },
                ]}
              />
              {more && (
                <Button variant="outline" mt="3" alignSelf="flex-start" onClick={() => setHundreds(hundreds + 1)}>
                  Show {atOnce} older plans
                </Button>
              )}
            </Sheet>
          )
        }
      </Shown>
    </Page>
  );
}
