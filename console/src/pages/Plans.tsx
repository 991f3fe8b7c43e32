import { Link as Styled } from "@chakra-ui/react";
import { Link } from "react-router";
import { usePlans } from "../api/queries";
import { chance, drift, moment, money, none } from "../parts/format";
import { List } from "../parts/List";
import { Page, Sheet, State } from "../parts/Page";
import { Empty, Shown } from "../parts/States";

export function Plans() {
  const plans = usePlans();
  return (
    <Page title="Plans" lead="Schedules, each with its cost and the least that any schedule could cost.">
      <Shown query={plans}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No plan yet" command="rotanex plan SHOT --by 20:00">
              Choose shots on the page Shots, or plan them on the command line.
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
                    cell: (p) => (
                      <Styled asChild color="brass.fg" fontWeight="medium">
                        <Link to={`/plans/${p.id}`}>{p.id.slice(0, 8)}</Link>
                      </Styled>
                    ),
                  },
                  { name: "Shots", cell: (p) => p.shots.join(", ") },
                  { name: "Status", cell: (p) => <State>{p.status}</State> },
                  {
                    name: "In time",
                    cell: (p) => (p.chance === undefined ? none : chance(p.chance)),
                    right: true,
                  },
                  { name: "Cost", cell: (p) => money(p.currency, p.cost), right: true },
                  {
                    name: "No less than",
                    cell: (p) => (p.status === "late" ? none : money(p.currency, p.cost_bound)),
                    right: true,
                  },
                  { name: "Finish", cell: (p) => moment(p.finish) },
                  { name: "Against the deadline", cell: (p) => (p.deadline ? drift(p.finish, p.deadline).text : "") },
                ]}
              />
            </Sheet>
          )
        }
      </Shown>
    </Page>
  );
}
