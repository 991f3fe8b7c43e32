import { Button, Stack } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { answered, client, type Schemas } from "../api/client";
import { Confirmed } from "../parts/Confirmed";
import { Failed } from "../parts/States";

/** What can be done with a run that is over: out of the list of runs, or gone. */
export function Over({ run }: { run: Schemas["Run"] }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const away = () => {
    cache.invalidateQueries({ queryKey: ["runs"] });
    go("/runs");
  };
  const path = { params: { path: { run: run.id } } };
  const archive = useMutation({
    mutationFn: () => answered(client.PUT("/runs/{run}/archived", { ...path, body: { archived: true } })),
    onSuccess: away,
  });
  return (
    <>
      <Stack gap="2" align="flex-end">
        <Button
          variant="outline"
          title="Out of the list of runs; rotanex runs list --archived shows it, rotanex runs archive --undo puts it back"
          loading={archive.isPending}
          onClick={() => archive.mutate()}
        >
          Archive
        </Button>
        {archive.error && <Failed error={archive.error} />}
      </Stack>
      <Confirmed
        text="Delete"
        size="md"
        question="With its frames and tries? What it cost stays in the ledger."
        yes="Yes, delete it"
        does={() => answered(client.DELETE("/runs/{run}", path)).then(away)}
      />
    </>
  );
}
