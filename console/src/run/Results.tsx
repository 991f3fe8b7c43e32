import { Box, Button, Code, Flex, Input, Stack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useId, useState } from "react";
import { answered, client, type Schemas } from "../api/client";
import { Choice } from "../parts/Choice";
import { bytes, count } from "../parts/format";
import { Labelled } from "../parts/Labelled";
import { Sheet } from "../parts/Page";
import { Failed } from "../parts/States";

const usualName = "{shot}/{pass}/{file}/{shot}.{frame:4}.{ext}";

/** Where a run's results are taken from, named so. */
export const resultsURL = (run: string, name: string, files: string) =>
  `/api/v1/runs/${run}/results.zip?${new URLSearchParams({ name, files })}`;

/** The finished frames in one file: named as one likes, which is looked at before they are taken. */
export function Results({ run }: { run: Schemas["Run"] }) {
  const [name, setName] = useState(usualName);
  const [files, setFiles] = useState("all");
  const asked = useDeferredValue(name);
  const hint = useId();
  const found = useQuery({
    queryKey: ["runs", run.id, "results", run.counts.done, asked, files],
    queryFn: () =>
      answered(client.GET("/runs/{run}/results", { params: { path: { run: run.id }, query: { name: asked, files } } })),
    placeholderData: (before) => before,
    retry: false,
  });
  const x = found.error ? undefined : found.data;
  return (
    <Sheet
      title="Results"
      aside={
        x &&
        `${x.frames === x.of ? "all" : `${x.frames.toLocaleString()} of`} ${count(x.of, "frame")}, ${count(x.files, "file")}`
      }
    >
      <Stack gap="4">
        <Flex gap="4" align="end" wrap="wrap">
          <Labelled label="Name of each file" grow>
            <Input
              value={name}
              onChange={(e) => setName(e.target.value)}
              aria-describedby={hint}
              aria-invalid={!!found.error}
              spellCheck={false}
              fontFamily="mono"
              fontSize="sm"
              h="9"
            />
          </Labelled>
          <Choice
            label="Of each frame"
            value={files}
            options={[
              { value: "all", text: "all files" },
              { value: "none", text: "the picture alone" },
            ]}
            onChange={setFiles}
          />
          {x?.files ? (
            <Button asChild variant="outline" h="9">
              <a href={resultsURL(run.id, asked, files)} download>
                Download {bytes(x.bytes)}
              </a>
            </Button>
          ) : (
            <Button variant="outline" h="9" disabled>
              Download
            </Button>
          )}
        </Flex>
        <Box id={hint} fontSize="sm" color="fg.muted">
          {found.error ? (
            <Failed error={found.error} />
          ) : (
            <Stack as="ul" gap="0" listStyleType="none" fontFamily="mono" fontSize="xs">
              {x?.names.map((path) => (
                <Box as="li" key={path} overflowWrap="anywhere">
                  {path}
                </Box>
              ))}
            </Stack>
          )}
        </Box>
        <Text fontSize="sm" color="fg.muted">
          One ZIP file, with a SHA256SUMS in each folder. What can be gone on with after a break is{" "}
          <Code bg="rail">rotanex download {run.id.slice(0, 8)} --to DIR</Code>
        </Text>
      </Stack>
    </Sheet>
  );
}
