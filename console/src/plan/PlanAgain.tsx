import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../api/client";
import { Computing } from "../parts/Computing";
import { localInput } from "../parts/format";
import { Labelled } from "../parts/Labelled";
import { Sheet } from "../parts/Page";
import { Failed } from "../parts/States";
import { askedAgain, choicesText } from "./choices";
import { makePlan } from "./make";

/** Plans the same shots by another deadline, with what was asked for before, and opens
 * what comes of it. */
export function usePlanAgain(plan: Schemas["Plan"]) {
  const go = useNavigate();
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (ask: { by: Date; slack?: number; confidence?: number; contingency?: string }) => {
      const { by, ...spare } = ask;
      return makePlan(askedAgain(plan, by.toISOString(), spare));
    },
    onSuccess: (next) => {
      cache.invalidateQueries({ queryKey: ["plans"] });
      go(`/plans/${next.id}`);
    },
  });
}

export function PlanAgain({ plan, again }: { plan: Schemas["Plan"]; again: ReturnType<typeof usePlanAgain> }) {
  const [by, setBy] = useState(localInput(new Date(plan.deadline ?? plan.finish)));
  const asked = plan.choices;
  const [slack, setSlack] = useState(asked?.slack ? String(Math.round(100 * asked.slack)) : "0");
  const [sure, setSure] = useState(asked?.confidence ? String(Math.round(100 * asked.confidence)) : "");
  const [contingency, setContingency] = useState(asked?.contingency ?? "");
  const kept = choicesText(plan);
  const at = new Date(by);
  const ready = !Number.isNaN(at.getTime());
  return (
    <Sheet
      title="Plan again"
      aside={kept ? `Asked for, and asked for again: ${kept}.` : "Or move the deadline under the bookings."}
    >
      <Flex gap="4" align="flex-end" wrap="wrap">
        <Labelled label="Deadline">
          <Input type="datetime-local" value={by} onChange={(e) => setBy(e.target.value)} w="14rem" />
        </Labelled>
        <Labelled label="Time kept spare, %">
          <Input
            type="number"
            min="0"
            max="90"
            value={slack}
            disabled={sure !== ""}
            onChange={(e) => setSlack(e.target.value)}
            w="8rem"
          />
        </Labelled>
        <Labelled label="Or chance wanted, %">
          <Input
            type="number"
            min="50"
            max="99"
            placeholder="95"
            value={sure}
            onChange={(e) => setSure(e.target.value)}
            w="8rem"
          />
        </Labelled>
        <Labelled label={`Kept for servers on the way, ${plan.currency}`}>
          <Input placeholder="0.00" value={contingency} onChange={(e) => setContingency(e.target.value)} w="8rem" />
        </Labelled>
        <Button
          variant="outline"
          loading={again.isPending}
          disabled={!ready}
          onClick={() =>
            again.mutate({
              by: at,
              slack: sure ? undefined : Number(slack) / 100,
              confidence: sure ? Number(sure) / 100 : undefined,
              contingency: contingency.trim(),
            })
          }
        >
          Plan again
        </Button>
      </Flex>
      {again.isPending && (
        <Box mt="3">
          <Computing path="/plans" />
        </Box>
      )}
      {again.error && (
        <Box mt="3">
          <Failed error={again.error} />
        </Box>
      )}
    </Sheet>
  );
}
