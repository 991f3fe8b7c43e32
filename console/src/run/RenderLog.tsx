import { Box, Button, Flex, Input, Link, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { renderLogURL, useRenderLog } from "../api/queries";
import { bytes, count } from "../parts/format";

/** Lines that are shown at once; the file has all. */
const shownAtOnce = 2000;

/** All that the renderer said in a try: read when it is asked for, with what is searched for. */
export function RenderLog({
  run,
  shot,
  frame,
  attempt,
}: {
  run: string;
  shot: string;
  frame: number;
  attempt: Schemas["Try"];
}) {
  const [open, setOpen] = useState(false);
  const [search, setSearch] = useState("");
  const text = useRenderLog(run, shot, frame, attempt.fence, open);
  if (!attempt.log_bytes) return null;
  const lines = (text.data ?? "").replace(/\n$/, "").split("\n");
  const found = lines
    .map((line, i) => ({ line, number: i + 1 }))
    .filter((x) => x.line.toLowerCase().includes(search.toLowerCase()));
  return (
    <Box mt="2">
      <Flex gap="4" align="center" wrap="wrap">
        <Button size="xs" variant="outline" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Close the render log" : "Whole render log"}
        </Button>
        <Link href={renderLogURL(run, shot, frame, attempt.fence)} download={`${shot}.${frame}.${attempt.fence}.log`}>
          download, {bytes(attempt.log_bytes)} packed
        </Link>
      </Flex>
      {open && text.error && <Text color="failed">{text.error.message}</Text>}
      {open && text.data !== undefined && (
        <Box mt="2">
          <Flex gap="3" align="center" mb="1">
            <Input
              size="xs"
              placeholder="Search in it"
              aria-label="Search in the render log"
              value={search}
              onChange={(e) => setSearch(e.currentTarget.value)}
            />
            <Text color="fg.muted" flexShrink="0">
              {search
                ? `${found.length.toLocaleString()} of ${count(lines.length, "line")}`
                : count(lines.length, "line")}
            </Text>
          </Flex>
          <Box
            maxH="24rem"
            overflow="auto"
            bg="bg"
            rounded="sm"
            p="2"
            fontFamily="mono"
            fontSize="xs"
            tabIndex={0}
            role="log"
            aria-label="Render log"
          >
            {found.slice(0, shownAtOnce).map((x) => (
              <Flex key={x.number} gap="3">
                <Text as="span" color="fg.muted" minW="2.5rem" textAlign="right" flexShrink="0" userSelect="none">
                  {x.number}
                </Text>
                <Text as="span" whiteSpace="pre-wrap" wordBreak="break-word">
                  {x.line}
                </Text>
              </Flex>
            ))}
            {found.length > shownAtOnce && (
              <Text color="fg.muted">
                {count(found.length - shownAtOnce, "more line")}: search for some, or download it
              </Text>
            )}
          </Box>
        </Box>
      )}
    </Box>
  );
}
