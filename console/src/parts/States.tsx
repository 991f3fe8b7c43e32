import { Box, Button, Center, Code, Spinner, Stack, Text } from "@chakra-ui/react";
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Problem, Refusal } from "../api/client";
import { useComputing } from "../api/computing";
import { Computing } from "./Computing";

/** What stands where there is nothing yet: what it would be, and what to do. */
export function Empty({
  title,
  children,
  command,
  next,
}: {
  title: string;
  children?: ReactNode;
  command?: string;
  next?: ReactNode; // the button that does it
}) {
  return (
    <Center py="16" px="6" borderWidth="1px" borderStyle="dashed" borderColor="line" rounded="lg">
      <Stack align="center" textAlign="center" gap="3" maxW="lg">
        <Text fontWeight="semibold" fontSize="lg">
          {title}
        </Text>
        {children && <Text color="fg.muted">{children}</Text>}
        {next}
        {command && (
          <Code px="3" py="1.5" bg="rail" color="fg">
            {command}
          </Code>
        )}
      </Stack>
    </Center>
  );
}

export function Failed({ error, again }: { error: unknown; again?: () => void }) {
  const problem = error instanceof Problem ? error.document : undefined;
  return (
    <Box role="alert" borderLeftWidth="3px" borderColor="failed" bg="paper" rounded="md" px="5" py="4">
      <Text fontWeight="semibold">
        {problem?.title ?? (error instanceof Refusal ? "That cannot be done" : "The service does not answer")}
      </Text>
      <Text color="fg.muted" mt="1">
        {problem || error instanceof Refusal
          ? (problem?.detail ?? (error as Refusal).message)
          : "What you see may be old. It is asked again by itself; the run goes on without this page."}
      </Text>
      {again && (
        <Button size="sm" variant="outline" mt="3" onClick={again}>
          Ask again
        </Button>
      )}
    </Box>
  );
}

/** Shows a query: waiting, failed, or its data. What the service computes for its path
 * is shown as far as it is. */
export function Shown<T>({
  query,
  path = "",
  children,
}: {
  query: UseQueryResult<T>;
  path?: string;
  children: (data: T) => ReactNode;
}) {
  const computing = useComputing(path);
  if (query.data !== undefined) {
    return (
      <>
        {query.error && (
          <Box mb="4">
            <Failed error={query.error} />
          </Box>
        )}
        {children(query.data)}
      </>
    );
  }
  if (query.error) return <Failed error={query.error} again={() => query.refetch()} />;
  if (computing)
    return (
      <Center py="12">
        <Computing path={path} />
      </Center>
    );
  return <Loading />;
}

/** Something is on its way. */
export const Loading = () => (
  <Center py="24">
    <Spinner size="lg" color="brass.solid" role="status" aria-label="Loading" />
  </Center>
);
