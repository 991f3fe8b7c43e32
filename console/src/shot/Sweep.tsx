import { Button, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answered, client, newKey } from "../api/client";
import { useSweeps } from "../api/queries";
import { length } from "../parts/format";
import { State } from "../parts/Page";
import { useMayWrite } from "../parts/role";
import { Failed } from "../parts/States";

/** Begins a sweep of the shot, and says how the last one stands. */
export function SweepNow({ shot }: { shot: string }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const last = useSweeps(shot).data?.[0];
  const begin = useMutation({
    mutationFn: () =>
      answered(client.POST("/sweeps", { params: { header: { "Idempotency-Key": newKey() } }, body: { shot } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["sweeps", shot] }),
  });
  const end = useMutation({
    mutationFn: (sweep: string) => answered(client.DELETE("/sweeps/{sweep}", { params: { path: { sweep } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["sweeps", shot] }),
  });
  const running = last?.state === "running";
  return (
    <>
      <Flex align="center" gap="4" wrap="wrap">
        {mayWrite && (
          <Button
            variant="outline"
            size="sm"
            loading={begin.isPending}
            disabled={running}
            onClick={() => begin.mutate()}
          >
            Sweep: time the crews that tell most
          </Button>
        )}
        {last && (
          <Flex gap="2" align="center" fontSize="sm" color="fg.muted">
            <State>{last.state}</State>
            {running
              ? `${last.trials.filter((t) => t.state === "complete").length} of ${last.trials.length} trials done, ${length(last.budget_s)} at most`
              : `last sweep: ${last.trials.length} trials; ${last.why}`}
          </Flex>
        )}
        {running && mayWrite && (
          <Button variant="ghost" size="sm" onClick={() => end.mutate(last.id)}>
            Begin no more
          </Button>
        )}
        {!last && !mayWrite && <Text color="fg.muted">No sweep yet.</Text>}
      </Flex>
      {last?.beyond?.map((b) => (
        <Text key={b.crew} fontSize="sm" color="fg.muted">
          {b.crew} cannot be timed in {length(last.budget_s)}: {b.why}.
        </Text>
      ))}
      {begin.error && <Failed error={begin.error} />}
    </>
  );
}
