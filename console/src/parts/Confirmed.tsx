import { Button, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Failed } from "./States";

/** A button for what cannot be taken back: it asks first. */
export function Confirmed({
  text,
  label,
  question,
  yes,
  size = "sm",
  does,
}: {
  text: string;
  label?: string; // for those who do not see what it stands beside
  question?: string;
  yes: string;
  size?: "xs" | "sm" | "md";
  does: () => Promise<unknown>;
}) {
  const [asking, setAsking] = useState(false);
  const go = useMutation({ mutationFn: does });
  if (!asking)
    return (
      <Button size={size} variant="ghost" color="failed" aria-label={label} onClick={() => setAsking(true)}>
        {text}
      </Button>
    );
  return (
    <Stack gap="2" align="flex-end">
      <HStack gap="2">
        {question && <Text>{question}</Text>}
        <Button size={size} variant="outline" color="failed" loading={go.isPending} onClick={() => go.mutate()}>
          {yes}
        </Button>
        <Button size={size} variant="ghost" onClick={() => setAsking(false)}>
          No
        </Button>
      </HStack>
      {go.error && <Failed error={go.error} />}
    </Stack>
  );
}
