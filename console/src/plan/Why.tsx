import { Box, Stack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { useReasons } from "../api/queries";
import { moment, money } from "../parts/format";
import { List } from "../parts/List";
import { Sheet } from "../parts/Page";
import { Shown } from "../parts/States";

/** Why the plan is as it is. Opened at once where it is not in time: then it is the
 * first question. */
export function Why({ plan }: { plan: Schemas["Plan"] }) {
  const pressing = plan.status !== "meets";
  const [open, setOpen] = useState(pressing);
  const reasons = useReasons(plan.id, open);
  return (
    <Sheet title={pressing ? "What is short, and what would do" : "Why so"}>
      {!open ? (
        <Box asChild color="brass.fg" textAlign="left" cursor="pointer" w="fit-content">
          <button type="button" onClick={() => setOpen(true)}>
            Say why each place is used or not
          </button>
        </Box>
      ) : (
        <Shown query={reasons} path={`/plans/${plan.id}/reasons`}>
          {(r) => (
            <Stack gap="5">
              {r.short.length > 0 && (
                <Stack gap="1">
                  {r.short.map((s) => (
                    <Text key={s.text}>{s.text}</Text>
                  ))}
                </Stack>
              )}
              {r.remedies.length > 0 && (
                <List
                  label="Any one of these would do"
                  rows={r.remedies}
                  keyOf={(x) => x.change}
                  columns={[
                    { name: "Any one of these would do", cell: (x) => x.change },
                    { name: "Then it costs", cell: (x) => money(plan.currency, x.cost), right: true },
                    { name: "Finish", cell: (x) => moment(x.finish) },
                  ]}
                />
              )}
              {r.used.length > 0 && (
                <List
                  label="Used"
                  rows={r.used}
                  keyOf={(x) => `${x.place}${x.shot}`}
                  columns={[
                    { name: "Used", cell: (x) => x.place },
                    { name: "Shot", cell: (x) => x.shot ?? "" },
                    { name: "Because", cell: (x) => x.text },
                  ]}
                />
              )}
              {r.unused.length > 0 && (
                <List
                  label="Not used"
                  rows={r.unused}
                  keyOf={(x) => x.place}
                  columns={[
                    { name: "Not used", cell: (x) => x.place },
                    { name: "Because", cell: (x) => x.text },
                  ]}
                />
              )}
            </Stack>
          )}
        </Shown>
      )}
    </Sheet>
  );
}
