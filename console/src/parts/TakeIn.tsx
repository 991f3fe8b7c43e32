import { Box, Button, FileUpload, Flex, Stack, Text, Textarea } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Failed } from "./States";

/** Takes in the lines of a CSV file, chosen or pasted: all of them, or nothing where one is wrong. */
export function TakeIn({
  what,
  example,
  send,
  stale,
}: {
  what: string; // as it is called: "exchange rates"
  example: string; // its header and a line
  send: (csv: string) => Promise<string>; // what came of it
  stale: string[]; // the key of the query that is asked again
}) {
  const cache = useQueryClient();
  const [csv, setCSV] = useState("");
  const take = useMutation({
    mutationFn: send,
    onSuccess: () => {
      setCSV("");
      cache.invalidateQueries({ queryKey: stale });
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    take.mutate(csv);
  };
  return (
    <Box asChild>
      <details>
        <Box asChild cursor="pointer" color="brass.fg" py="1" fontSize="sm">
          <summary>Take in {what}</summary>
        </Box>
        <form onSubmit={submit}>
          <Stack gap="3" mt="3">
            <Textarea
              aria-label={`${what}, as CSV`}
              value={csv}
              onChange={(e) => setCSV(e.target.value)}
              placeholder={example}
              rows={4}
              fontFamily="mono"
              fontSize="sm"
              borderColor="line"
              bg="bg"
            />
            <Flex gap="3" align="center" wrap="wrap">
              <Button type="submit" size="sm" variant="outline" disabled={!csv.trim()} loading={take.isPending}>
                Take them in
              </Button>
              <FileUpload.Root
                w="auto"
                accept={[".csv", "text/csv"]}
                onFileAccept={async (e) => setCSV((await e.files[0]?.text()) ?? "")}
              >
                <FileUpload.HiddenInput aria-label={`A file of ${what}`} />
                <FileUpload.Trigger asChild>
                  <Button size="sm" variant="ghost">
                    Choose a file
                  </Button>
                </FileUpload.Trigger>
              </FileUpload.Root>
              <Text role="status" color="fg.muted" fontSize="sm">
                {take.data}
              </Text>
            </Flex>
            {take.error && <Failed error={take.error} />}
          </Stack>
        </form>
      </details>
    </Box>
  );
}
