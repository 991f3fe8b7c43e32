import { Button, Flex, Input, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { answered, client, newKey, Refusal, type Schemas } from "../api/client";
import { useSession } from "../api/queries";
import { Choice } from "../parts/Choice";
import { Computing } from "../parts/Computing";
import { count } from "../parts/format";
import { Labelled } from "../parts/Labelled";
import { Failed } from "../parts/States";
import { makePlan } from "../plan/make";

type Devices = NonNullable<Schemas["NewPlan"]["devices"]>;

/** The budget of what own machines alone render: no limit to their power. */
const own = "1000000.00";

/** Plans one shot as soon as machines are free, and begins its run. */
async function add(shot: string, mayCost: string, devices: Devices) {
  const plan = await makePlan({
    shots: [shot],
    priority: "backlog",
    goal: "fastest",
    budget: mayCost || own,
    rented: mayCost !== "",
    devices,
  });
  if (plan.status !== "meets")
    throw new Refusal(
      `${shot}: plan ${plan.id.slice(0, 8)} is ${plan.status}; its page, below Plans, says why and what would help`,
    );
  if (plan.outside_cost && !mayCost)
    throw new Refusal(
      `${shot} would hire licence seats for ${plan.outside_cost} ${plan.currency}: say what it may cost`,
    );
  return answered(
    client.POST("/runs", {
      params: { header: { "Idempotency-Key": newKey() } },
      body: { plan: plan.id, tries: 3, spend: plan.may_spend },
    }),
  );
}

/** Has shots rendered when crews would else be idle, each as a run of its own. */
export function Backlog({ chosen }: { chosen: string[] }) {
  const cache = useQueryClient();
  const currency = useSession().data?.currency;
  const [mayCost, setMayCost] = useState("");
  const [devices, setDevices] = useState<Devices>("any");
  const [added, setAdded] = useState<string[]>([]);
  const begin = useMutation({
    mutationFn: async () => {
      setAdded([]);
      for (const shot of chosen) {
        await add(shot, mayCost, devices);
        setAdded((old) => [...old, shot]);
      }
    },
    onSettled: () => {
      cache.invalidateQueries({ queryKey: ["runs"] });
      cache.invalidateQueries({ queryKey: ["plans"] });
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    begin.mutate();
  };
  return (
    <form onSubmit={submit}>
      <Stack gap="3">
        <Text color="fg.muted">
          Or without a deadline, when crews would else be idle and never in the way of a run:
        </Text>
        <Flex gap="4" align="flex-end" wrap="wrap">
          <Choice
            label="On"
            value={devices}
            options={[
              { value: "any", text: "any crew" },
              { value: "gpu", text: "no CPU alone" },
              { value: "gpu-else-cpu", text: "a CPU alone where no GPU can" },
            ]}
            onChange={setDevices}
          />
          <Labelled label={`May cost${currency ? `, ${currency}` : ""}`}>
            <Input
              w="9rem"
              borderColor="line"
              inputMode="decimal"
              placeholder="nothing hired"
              value={mayCost}
              onChange={(e) => setMayCost(e.target.value)}
            />
          </Labelled>
          <Button
            type="submit"
            variant="outline"
            disabled={chosen.length === 0}
            loading={begin.isPending}
            loadingText="Adding"
          >
            {chosen.length > 0 ? `Render ${count(chosen.length, "shot")} when idle` : "When idle: choose shots above"}
          </Button>
        </Flex>
        {begin.isPending && <Computing path="/plans" />}
        {added.length > 0 && (
          <Text role="status" color="fg.muted">
            In the backlog: {added.join(", ")}
          </Text>
        )}
        {begin.error && <Failed error={begin.error} />}
      </Stack>
    </form>
  );
}
