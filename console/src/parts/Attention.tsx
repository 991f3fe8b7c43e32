import { Box, Link as Styled, Text } from "@chakra-ui/react";
import { LuHand } from "react-icons/lu";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { useWaiting } from "../api/queries";
import { count } from "./format";

type Waiting = Schemas["Waiting"];

/** What waits, in a few words. */
export function waitingText(x: Waiting): string {
  switch (x.what) {
    case "proofs":
      return `proof frames of ${x.shot} at ${x.farm}`;
    case "proposal":
      return `a new schedule for run ${x.run.slice(0, 8)}`;
    default:
      return `${count(x.frames ?? 0, "frame")} of ${x.shot} that nobody is left to render`;
  }
}

/** What waits for a person, first thing on every page; nothing where nothing does. */
export function Attention() {
  const waiting = useWaiting();
  if (!waiting.data?.length) return null;
  return (
    <Box
      asChild
      display="flex"
      alignItems="center"
      columnGap="3"
      rowGap="1"
      flexWrap="wrap"
      px={{ base: "4", md: "5", xl: "10" }}
      py="2.5"
      borderBottomWidth="1px"
      borderColor="line"
      bg="paper"
    >
      <section aria-label="Waiting for you">
        <Text fontWeight="semibold" display="flex" gap="2" alignItems="center">
          <LuHand aria-hidden /> Waiting for you
        </Text>
        {waiting.data.map((x) => (
          <Styled asChild color="brass.fg" key={`${x.run} ${x.what} ${x.job ?? x.shot ?? ""}`}>
            <Link to={`/runs/${x.run}`}>{waitingText(x)}</Link>
          </Styled>
        ))}
      </section>
    </Box>
  );
}
