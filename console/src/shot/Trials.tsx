import { Box, Code, Stack, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { useShotTrials } from "../api/queries";
import { count, length, moment, none } from "../parts/format";
import { List } from "../parts/List";
import { Sheet, State } from "../parts/Page";
import { Shown } from "../parts/States";

type Trial = Schemas["Trial"];

/** The frames of a trial that failed, each with what the renderer said last. */
export function failures(t: Trial): { frame: number; cause: string; words: string }[] {
  if (t.state === "complete") return [];
  return t.frames.flatMap((f) =>
    f.cause ? [{ frame: f.frame, cause: f.cause, words: f.log_tail?.trim() ?? "" }] : [],
  );
}

/** The timed test frames of a shot, the newest first; of one that failed, why. */
export function Trials({ shot }: { shot: string }) {
  const query = useShotTrials(shot);
  return (
    <Shown query={query}>
      {(all) => {
        if (all.length === 0) return null;
        const failed = all.filter((t) => failures(t).length > 0);
        return (
          <Sheet title="Trials" aside={`${count(all.length, "trial")}, the newest first`}>
            <Stack gap="5">
              {failed.map((t) => (
                <Failure key={t.id} t={t} />
              ))}
              <List
                label="Trials"
                rows={all}
                keyOf={(t) => t.id}
                columns={[
                  { name: "Crew", cell: (t) => `${t.host}/${t.crew}` },
                  { name: "State", cell: (t) => <State>{t.state}</State> },
                  { name: "Timed", cell: (t) => count(t.summary?.frames ?? 0, "frame"), right: true },
                  { name: "Median", cell: (t) => length(t.summary?.median_s), right: true },
                  {
                    name: "Fastest – slowest",
                    cell: (t) =>
                      t.summary?.frames ? `${length(t.summary.low_s)} – ${length(t.summary.high_s)}` : none,
                    right: true,
                  },
                  { name: "Begun", cell: (t) => moment(t.created) },
                  {
                    name: "Why",
                    cell: (t) => (
                      <Text whiteSpace="normal" minW="11rem">
                        {t.why || none}
                      </Text>
                    ),
                  },
                ]}
              />
            </Stack>
          </Sheet>
        );
      }}
    </Shown>
  );
}

function Failure({ t }: { t: Trial }) {
  return (
    <Box borderLeftWidth="3px" borderColor="failed" pl="4">
      {failures(t).map((f) => (
        <Stack key={f.frame} gap="1.5">
          <Text>
            <b>
              {t.host}/{t.crew}
            </b>
            , frame {f.frame}: {f.cause}
          </Text>
          {f.words && (
            <Code
              whiteSpace="pre-wrap"
              display="block"
              px="3"
              py="2"
              bg="rail"
              color="fg"
              maxH="12rem"
              overflowY="auto"
            >
              {f.words}
            </Code>
          )}
        </Stack>
      ))}
    </Box>
  );
}
