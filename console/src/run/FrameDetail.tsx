import { Box, Center, Code, Flex, Link, Stack, Text } from "@chakra-ui/react";
import { useDeferredValue, useState } from "react";
import { Link as To } from "react-router";
import type { Schemas } from "../api/client";
import { pictureURL, useFrame, useFrameWhy } from "../api/queries";
import { Choice } from "../parts/Choice";
import { Exposure } from "../parts/Exposure";
import { bytes, count, length, moment, percent } from "../parts/format";
import { Sheet, State } from "../parts/Page";
import { Preview } from "../parts/Preview";
import { Verdicts } from "../parts/Verdicts";
import { said } from "./Frames";
import { layersOf, viewsOf } from "./layers";
import { RenderLog } from "./RenderLog";

type Frame = Schemas["Frame"];

function Try({ run, frame, attempt }: { run: string; frame: Frame; attempt: Schemas["Try"] }) {
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
      <RenderLog run={run} shot={frame.shot} frame={frame.frame} attempt={attempt} />
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

/** The files that a finished frame has beside its picture, to be taken. */
function Beside({ run, frame }: { run: string; frame: Frame }) {
  if (!frame.files?.length) return null;
  return (
    <Box as="section" aria-label="Files of the frame" fontSize="sm">
      <Text color="fg.muted">Beside the picture</Text>
      <Stack as="ul" gap="1" listStyleType="none">
        {frame.files.map((f) => (
          <Flex as="li" key={f.name} justify="space-between" gap="3">
            <Link
              href={pictureURL(run, frame.shot, frame.frame, { file: f.name })}
              download={`${frame.shot}.${f.name}.${frame.frame}.${f.ending}`}
              overflowWrap="anywhere"
            >
              {f.name}.{f.ending}
            </Link>
            <Text color="fg.muted" whiteSpace="nowrap">
              {bytes(f.bytes)}
            </Text>
          </Flex>
        ))}
      </Stack>
    </Box>
  );
}

/** A finished frame's picture, by layer. What has more light in it than a screen shows is looked at brighter or darker. */
function Picture({ run, frame, size }: { run: string; frame: Frame; size?: string }) {
  const [chosen, choose] = useState<string>();
  const [stops, setStops] = useState(0);
  const exposure = useDeferredValue(stops);
  const { shot, frame: number, format } = frame;
  const layers = layersOf(frame);
  const layer = layers.find((l) => l.value === chosen) ?? layers[0];
  const { small, whole } = viewsOf(layer, layer === layers[0], exposure);
  return (
    <Stack gap="2">
      <Link
        href={pictureURL(run, shot, number, whole)}
        target="_blank"
        aria-label={`Frame ${number} in full size, ${size ?? ""}`}
      >
        <Preview src={pictureURL(run, shot, number, small)} alt={`${shot}, frame ${number}, ${layer.text}`} />
      </Link>
      {!!frame.not_finite && (
        <Text color="failed" fontSize="sm">
          {count(frame.not_finite, "value")} of its pixels {frame.not_finite === 1 ? "is" : "are"} no number or infinite
        </Text>
      )}
      {frame.flicker && (
        <Text color="failed" fontSize="sm">
          Look at it: {said[`flicker-${frame.flicker.kind}`]}, by {percent(frame.flicker.amount)}
        </Text>
      )}
      {layers.length > 1 && <Choice label="Layer" value={layer.value} options={layers} onChange={choose} />}
      {layer.bright && <Exposure stops={stops} onChange={setStops} />}
      {(format === "exr" || format === "tiff") && (
        <Link href={pictureURL(run, shot, number)} download={`${shot}.${number}.${format}`} fontSize="sm">
          {format === "exr" ? "OpenEXR" : "TIFF"} file
        </Link>
      )}
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
          <>
            <Picture key={shot} run={run} frame={frame} size={size} />
            <Beside run={run} frame={frame} />
          </>
        ) : (
          <Center h="10rem" bg="bg" rounded="sm" color="fg.muted">
            {state === "rendering" && frame
              ? `rendering on ${frame.host}/${frame.crew}`
              : state === "failed"
                ? "no picture"
                : "no picture yet"}
          </Center>
        )}
        <Link asChild fontSize="sm">
          <To to={`/runs/${run}/flipbook/${shot}`}>Play {shot}</To>
        </Link>
        {frame && <WhyNot run={run} frame={frame} />}
        {frame && detail.data?.tries.toReversed().map((a) => <Try key={a.fence} run={run} frame={frame} attempt={a} />)}
      </Stack>
    </Sheet>
  );
}
