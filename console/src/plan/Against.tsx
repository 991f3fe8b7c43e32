import { Box, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { useChanges, usePlans } from "../api/queries";
import { Choice } from "../parts/Choice";
import { moment, money } from "../parts/format";
import { List } from "../parts/List";
import { Sheet } from "../parts/Page";
import { Shown } from "../parts/States";

/** What differs from another plan, chosen here. */
export function Against({ plan }: { plan: Schemas["Plan"] }) {
  const plans = usePlans();
  const [other, setOther] = useState("");
  const others = (plans.data?.items ?? []).filter((p) => p.id !== plan.id);
  if (others.length === 0) return null;
  return (
    <Sheet title="Against another plan">
      <Box mb={other ? "4" : "0"}>
        <Choice
          label="Compare with"
          value={other}
          onChange={setOther}
          options={[
            { value: "", text: "choose a plan" },
            ...others.map((p) => ({
              value: p.id,
              text: `${p.id.slice(0, 8)}, ${money(p.currency, p.cost)}, finish ${moment(p.finish)}`,
            })),
          ]}
        />
      </Box>
      {other && <Changes plan={plan.id} since={other} />}
    </Sheet>
  );
}

function Changes({ plan, since }: { plan: string; since: string }) {
  const changes = useChanges(plan, since);
  return (
    <Shown query={changes}>
      {(c) => (
        <Stack gap="3">
          <Text color="fg.muted">
            From {c.before.id.slice(0, 8)} ({money(c.before.currency, c.before.cost)}, finish {moment(c.before.finish)})
            to this one ({money(c.after.currency, c.after.cost)}, finish {moment(c.after.finish)}).
          </Text>
          {c.changes.length === 0 ? (
            <Text>They are the same.</Text>
          ) : (
            <List
              label="What changes"
              rows={c.changes}
              keyOf={(x) => `${x.place}${x.shot}${x.text}`}
              columns={[
                { name: "Place", cell: (x) => x.place ?? "" },
                { name: "Shot", cell: (x) => x.shot ?? "" },
                { name: "What changes", cell: (x) => x.text },
              ]}
            />
          )}
        </Stack>
      )}
    </Shown>
  );
}
