import { Button, Flex, Progress, Spinner, Stack, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { answered, client } from "../api/client";
import { computingText, useComputing } from "../api/computing";

/** How far the service is with the answer to a request of this page, and a way to end it.
 * Nothing while nothing is computed for that path. */
export function Computing({ path }: { path: string }) {
  const c = useComputing(path);
  const cancel = useMutation({
    mutationFn: (computation: string) =>
      answered(client.DELETE("/computations/{computation}", { params: { path: { computation } } })),
  });
  if (!c) return null;
  return (
    <Stack gap="2" maxW="md" w="full" role="status">
      <Flex gap="3" align="center">
        <Spinner size="sm" color="brass.solid" />
        <Text flex="1" color="fg.muted" fontSize="sm">
          {computingText(c)}
          {!c.yours && `, asked for by ${c.asked_by}`}
        </Text>
        <Button size="xs" variant="ghost" loading={cancel.isPending} onClick={() => cancel.mutate(c.id)}>
          Stop
        </Button>
      </Flex>
      {c.parts > 0 && (
        <Progress.Root size="xs" value={c.done} max={c.parts} aria-label="How far it is">
          <Progress.Track>
            <Progress.Range bg="brass.solid" />
          </Progress.Track>
        </Progress.Root>
      )}
    </Stack>
  );
}
