import { Box, Center, Code, Link, Stack, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { pictureURL, useFrame, useFrameWhy } from "../api/queries";
import { bytes, length, moment } from "../parts/format";
import { Sheet, State } from "../parts/Page";
import { Preview } from "../parts/Preview";
import { Verdicts } from "../parts/Verdicts";

type Frame = Schemas["Frame"];

function Try({ attempt }: { attempt: Schemas["Try"] }) {
  return (
    <Box fontSize="sm" borderTopWidth="1px" borderColor="line" pt="2">
      <Text>
        {attempt.host}/{attempt.crew} <State>{attempt.outcome === "failed" ? "failed" : attempt.outcome}</State>
        {attempt.cause && ` ${attempt.cause}`}
      </Text>
      <Text color="fg.muted">
        {length(attempt.measured?.seconds)}, {bytes(attempt.measured?.peak_memory_bytes)} of host memory, until{" "}
        {moment(attempt.ended)}
      </Text>
      {attempt.log_tail && (
        <Code
          display="block"
          whiteSpace="pre-wrap"
          mt="2"
          p="2"
          bg="bg"
          color="fg"
          fontSize="xs"
          maxH="10rem"
          overflow="auto"
        >
          {attempt.log_tail}
        </Code>
      )}
    </Box>
  );
}

/** Why a waiting or failed frame is not being rendered. */
function WhyNot({ run, frame }: { run: string; frame: Frame }) {
  const why = useFrameWhy(run, frame.shot, frame.frame, frame.state === "waiting" || frame.state === "failed");
  if (!why.data) return null;
  return (
    <Stack gap="2">
      <Text color={why.data.state === "waiting" && !why.data.left ? "failed" : undefined}>{why.data.answer}</Text>
      <Verdicts label="Who takes it when" crews={why.data.crews} />
    </Stack>
  );
}

/** The frame that was picked: its picture, and every try of it. */
export function FrameDetail({
  run,
  shot,
  number,
  state,
  size,
}: {
  run: string;
  shot: string;
  number: number;
  state: string;
  size?: string;
}) {
  const detail = useFrame(run, shot, number, state);
  const frame = detail.data?.frame;
  return (
    <Sheet title={`${shot}, frame ${number}`} aside={state}>
      <Stack gap="3">
        {state === "done" && frame ? (
          <Link
            href={pictureURL(run, shot, number)}
            target="_blank"
            aria-label={`Frame ${number} in full size, ${size ?? ""}`}
          >
            <Preview src={pictureURL(run, shot, number, 640)} alt={`${shot}, frame ${number}`} format={frame.format} />
          </Link>
        ) : (
          <Center h="10rem" bg="bg" rounded="sm" color="fg.muted">
            {state === "rendering" && frame
              ? `rendering on ${frame.host}/${frame.crew}`
              : state === "failed"
                ? "no picture"
                : "no picture yet"}
          </Center>
        )}
        {frame && <WhyNot run={run} frame={frame} />}
        {detail.data?.tries.toReversed().map((a) => (
          <Try key={a.fence} attempt={a} />
        ))}
      </Stack>
    </Sheet>
  );
}
