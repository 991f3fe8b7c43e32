import { Box, Button, Flex, Grid, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answered, client, type Schemas } from "../api/client";
import { pictureURL, useTrialPictures } from "../api/queries";
import { length, money, none } from "../parts/format";
import { List } from "../parts/List";
import { Sheet, State } from "../parts/Page";
import { Preview } from "../parts/Preview";
import { useMayWrite } from "../parts/role";
import { Failed } from "../parts/States";

type Run = Schemas["Run"];
type Job = Schemas["FarmJob"];

/** One picture with what it is. */
function Picture({ src, text }: { src: string; text: string }) {
  return (
    <Box>
      <Preview src={src} alt={text} crop />
      <Text fontSize="xs" color="fg.muted" mt="1">
        {text}
      </Text>
    </Box>
  );
}

/** Proof frames that wait for a person, next to local frames of the same shot. */
function Proofs({ job, currency }: { job: Job; currency: string }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const local = useTrialPictures(job.shot);
  const judge = useMutation({
    mutationFn: (accept: boolean) =>
      answered(client.POST("/farm-jobs/{job}/proofs", { params: { path: { job: job.id } }, body: { accept } })),
    onSettled: () => cache.invalidateQueries({ queryKey: ["runs"] }),
  });
  return (
    <Sheet
      title={`Proof frames of ${job.shot} at ${job.farm}`}
      aside="The rest is rendered once somebody has accepted them"
    >
      <Stack gap="4">
        <Grid templateColumns="repeat(3, 1fr)" gap="3">
          {job.proofs.map((n) => (
            <Picture
              key={n}
              src={pictureURL(job.run, job.shot, n, { width: 640 })}
              text={`frame ${n}, from ${job.farm}`}
            />
          ))}
          {(local.data ?? []).slice(0, 3).map((p) => (
            <Picture
              key={p.frame}
              src={pictureURL(p.run, job.shot, p.frame, { width: 640 })}
              text={`frame ${p.frame}, on ${p.host}`}
            />
          ))}
        </Grid>
        {mayWrite && (
          <Flex gap="3" align="center">
            <Button loading={judge.isPending} onClick={() => judge.mutate(true)}>
              Accept, and release {job.frames - job.proofs.length} frames
            </Button>
            <Button variant="outline" loading={judge.isPending} onClick={() => judge.mutate(false)}>
              Refuse, and render elsewhere
            </Button>
            <Text color="fg.muted" fontSize="sm">
              the job is expected to cost {money(currency, job.committed)}
            </Text>
          </Flex>
        )}
        {judge.error && <Failed error={judge.error} />}
      </Stack>
    </Sheet>
  );
}

/** What of a run waits for a person: proof frames to be accepted. */
export function Waiting({ run }: { run: Run }) {
  return (run.farm_jobs ?? [])
    .filter((j) => j.state === "held" && j.accepted === undefined)
    .map((j) => <Proofs key={j.id} job={j} currency={run.currency} />);
}

/** What farms render of a run. */
export function FarmJobs({ run }: { run: Run }) {
  const jobs = run.farm_jobs ?? [];
  if (jobs.length === 0) return null;
  return (
    <Sheet title="Farms" aside="summed is over all nodes, elapsed is by the clock">
      <List
        label="Jobs at farms"
        rows={jobs}
        keyOf={(j) => j.id}
        columns={[
          { name: "Farm", cell: (j) => j.farm },
          { name: "Shot", cell: (j) => j.shot },
          { name: "State", cell: (j) => <State>{j.state}</State> },
          { name: "Frames", cell: (j) => `${j.done} of ${j.frames}`, right: true },
          {
            name: "Failed tries",
            cell: (j) => (j.failed ? <Text color="failed">{j.failed}</Text> : 0),
            right: true,
          },
          { name: "Summed", cell: (j) => length(j.rendered_s), right: true },
          { name: "Elapsed", cell: (j) => length(j.elapsed_s), right: true },
          { name: "Expected", cell: (j) => money(run.currency, j.committed), right: true },
          { name: "Charged", cell: (j) => money(run.currency, j.charge), right: true },
          { name: "Note", cell: (j) => j.trouble || j.findings[0] || (j.queue ? `${j.queue} jobs before it` : none) },
        ]}
      />
    </Sheet>
  );
}
