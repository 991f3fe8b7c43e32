import { Box, Button, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { answered, client, type Schemas } from "../api/client";
import { Computing } from "../parts/Computing";
import { count } from "../parts/format";
import { Failed } from "../parts/States";
import { askedAgain } from "../plan/choices";
import { makePlan } from "../plan/make";

type Run = Schemas["Run"];

/** Plans what is left of a run, with what was asked of its plan, and opens the plan: it is carried out once somebody says so there. */
export function PlanRest({ run, urgent }: { run: Run; urgent?: boolean }) {
  const go = useNavigate();
  const cache = useQueryClient();
  const plan = useMutation({
    mutationFn: async () => {
      const before = run.plan
        ? await answered(client.GET("/plans/{plan}", { params: { path: { plan: run.plan } } }))
        : undefined;
      const shots = run.shots.map((s) => s.shot);
      const asked: Partial<Schemas["NewPlan"]> = before ? askedAgain(before, run.deadline) : {};
      return makePlan({
        ...asked,
        shots,
        pin: asked.pin?.filter((p) => shots.includes(p.shot)),
        run: run.id,
        by: run.deadline,
      });
    },
    onSuccess: (next) => {
      cache.invalidateQueries({ queryKey: ["plans"] });
      go(`/plans/${next.id}`);
    },
  });
  return (
    <Stack align="flex-end">
      <Button variant={urgent ? "solid" : "outline"} loading={plan.isPending} onClick={() => plan.mutate()}>
        Plan the rest
      </Button>
      {plan.isPending && <Computing path="/plans" />}
      {plan.error && <Failed error={plan.error} />}
    </Stack>
  );
}

/** Frames that wait and that nobody is left to take. */
export function Stranded({ run, mayWrite }: { run: Run; mayWrite: boolean }) {
  if (!run.stranded?.length) return null;
  return (
    <Box role="alert" borderLeftWidth="3px" borderColor="failed" bg="paper" rounded="md" px="5" py="4">
      <Stack direction="row" justify="space-between" gap="6" align="start">
        <Stack gap="1">
          <Text fontWeight="semibold">
            {count(
              run.stranded.reduce((n, s) => n + s.frames, 0),
              "frame",
            )}{" "}
            wait and nobody is left to render them
          </Text>
          {run.stranded.map((s) => (
            <Text key={s.shot} color="fg.muted">
              {s.shot}, {s.frames}: {s.why}
            </Text>
          ))}
        </Stack>
        {mayWrite && <PlanRest run={run} urgent />}
      </Stack>
    </Box>
  );
}
