import { Button, HStack, Input, Stack } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answered, client, type Schemas } from "../api/client";
import { isOver } from "../api/queries";
import { localInput } from "../parts/format";
import { Labelled } from "../parts/Labelled";
import { useMayWrite } from "../parts/role";
import { Failed } from "../parts/States";

/** Moves the deadline of an open run; what is left is then planned anew by its policy. */
export function Deadline({ run }: { run: Schemas["Run"] }) {
  const cache = useQueryClient();
  const mayWrite = useMayWrite();
  const [asked, setAsked] = useState<string>();
  const move = useMutation({
    mutationFn: (deadline: Date) =>
      answered(
        client.PUT("/runs/{run}/deadline", {
          params: { path: { run: run.id } },
          body: { deadline: deadline.toISOString() },
        }),
      ),
    onSuccess: () => {
      setAsked(undefined);
      cache.invalidateQueries({ queryKey: ["runs"] });
    },
  });
  if (!run.deadline || isOver(run) || !mayWrite) return null;
  const is = localInput(new Date(run.deadline));
  const at = new Date(asked ?? is);
  const moved = asked !== undefined && asked !== is && !Number.isNaN(at.getTime());
  return (
    <Stack gap="2">
      <HStack align="end">
        <Labelled label="Deadline">
          <Input
            type="datetime-local"
            value={asked ?? is}
            onChange={(e) => setAsked(e.target.value)}
            w="14rem"
            size="sm"
          />
        </Labelled>
        {moved && (
          <>
            <Button size="sm" loading={move.isPending} onClick={() => move.mutate(at)}>
              Move it
            </Button>
            <Button size="sm" variant="ghost" onClick={() => setAsked(undefined)}>
              Leave it
            </Button>
          </>
        )}
      </HStack>
      {move.error && <Failed error={move.error} />}
    </Stack>
  );
}
