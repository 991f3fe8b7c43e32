import { Box, Button, Center, Field, Heading, Input, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { answered, client } from "../api/client";
import { useMode } from "../parts/mode";

/** A token opens the console; the browser then keeps a session cookie, not the token. */
export function SignIn() {
  useMode();
  const cache = useQueryClient();
  const [token, setToken] = useState("");
  const signIn = useMutation({
    mutationFn: () => answered(client.POST("/session", { body: { token: token.trim() } })),
    onSuccess: () => cache.invalidateQueries(),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    signIn.mutate();
  };
  return (
    <Center minH="100vh" p="6">
      <Box as="main" w="full" maxW="380px" bg="paper" borderWidth="1px" borderColor="line" rounded="xl" p="8">
        <Stack gap="6">
          <Stack gap="3">
            <img src="/icon.svg" alt="" width="44" height="44" />
            <Heading as="h1" size="2xl" fontWeight="semibold">
              Rotanex
            </Heading>
            <Text color="fg.muted">Frames over mixed machines, by the deadline, for the least money.</Text>
          </Stack>
          <form onSubmit={submit}>
            <Stack gap="4">
              <Field.Root invalid={signIn.isError} required>
                <Field.Label>Access token</Field.Label>
                <Input
                  type="password"
                  autoComplete="current-password"
                  value={token}
                  onChange={(e) => setToken(e.target.value)}
                  autoFocus
                  borderColor="line"
                />
                <Field.HelperText>The service printed the first one when it first started.</Field.HelperText>
                <Field.ErrorText color="failed">{signIn.error?.message}</Field.ErrorText>
              </Field.Root>
              <Button type="submit" loading={signIn.isPending} disabled={!token.trim()}>
                Sign in
              </Button>
            </Stack>
          </form>
        </Stack>
      </Box>
    </Center>
  );
}
