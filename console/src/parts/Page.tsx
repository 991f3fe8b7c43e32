import { Box, Flex, Heading, HStack, Text } from "@chakra-ui/react";
import { type ReactNode, useEffect } from "react";

/** A page: its title, what can be done here, and its contents. */
export function Page({
  title,
  lead,
  actions,
  children,
}: {
  title: string;
  lead?: ReactNode;
  actions?: ReactNode;
  children: ReactNode;
}) {
  useEffect(() => {
    document.title = `${title} · Rotanex`;
  }, [title]);
  return (
    <Box as="main" px={{ base: "4", md: "5", xl: "10" }} py={{ base: "4", md: "7" }} maxW="1760px" w="full">
      <Flex
        justify="space-between"
        align="flex-start"
        direction={{ base: "column", md: "row" }}
        gap={{ base: "4", md: "6" }}
        mb="6"
      >
        <Box>
          <Heading as="h1" size="2xl" fontWeight="semibold" letterSpacing="-0.01em">
            {title}
          </Heading>
          {lead && (
            <Text as="div" color="fg.muted" mt="1">
              {lead}
            </Text>
          )}
        </Box>
        {actions && <HStack gap="2">{actions}</HStack>}
      </Flex>
      {children}
    </Box>
  );
}

/** A sheet of paper that things lie on. */
export function Sheet({ title, aside, children }: { title?: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <Flex as="section" direction="column" bg="paper" borderWidth="1px" borderColor="line" rounded="lg" p="5" minW="0">
      {title && (
        <Flex justify="space-between" align="baseline" mb="3" columnGap="4" wrap={{ base: "wrap", md: "nowrap" }}>
          <Heading as="h2" size="md" fontWeight="semibold" whiteSpace="nowrap">
            {title}
          </Heading>
          {aside && (
            <Text as="div" color="fg.muted" fontSize="sm">
              {aside}
            </Text>
          )}
        </Flex>
      )}
      {children}
    </Flex>
  );
}

/** One number that answers a question, with what to hold it against. */
export function Figure({
  label,
  value,
  beside,
  alarm,
}: {
  label: string;
  value: ReactNode;
  beside?: ReactNode;
  alarm?: boolean;
}) {
  return (
    <Box as="dl" borderTopWidth="2px" borderColor={alarm ? "failed" : "line"} pt="2.5">
      <Text as="dt" color="fg.muted" fontSize="sm">
        {label}
      </Text>
      <Text as="dd" fontSize="2xl" fontWeight="semibold" lineHeight="1.25" color={alarm ? "failed" : "fg"}>
        {value}
      </Text>
      {beside && (
        <Text as="dd" color="fg.muted" fontSize="sm">
          {beside}
        </Text>
      )}
    </Box>
  );
}

const tones: Record<string, { bg: string; fg: string }> = {
  good: { bg: "glass.subtle", fg: "glass.fg" },
  busy: { bg: "brass.subtle", fg: "brass.fg" },
  bad: { bg: "bg", fg: "failed" },
  calm: { bg: "bg", fg: "fg.muted" },
};

const toneOf: Record<string, keyof typeof tones> = {
  up: "good",
  ready: "good",
  sent: "good",
  complete: "good",
  meets: "good",
  measured: "good",
  running: "busy",
  rendering: "busy",
  starting: "busy",
  stopping: "busy",
  paused: "busy",
  draining: "busy",
  "set aside": "bad",
  lent: "good",
  "in use": "busy",
  "in-use": "busy",
  "taken back": "busy",
  predicted: "busy",
  fits: "good",
  shares: "good",
  now: "good",
  clear: "good",
  spills: "busy",
  "falls back": "busy",
  warnings: "busy",
  warning: "busy",
  "not-known": "busy",
  unknown: "busy",
  blocked: "bad",
  blocker: "bad",
  excluded: "bad",
  "does not fit": "bad",
  late: "bad",
  lost: "bad",
  failed: "bad",
  incomplete: "bad",
  "over-budget": "bad",
  impossible: "bad",
};

/** A state, as a word on a quiet ground. */
export function State({ children }: { children: string }) {
  const tone = tones[toneOf[children] ?? "calm"];
  return (
    <Text
      as="span"
      display="inline-block"
      px="2"
      py="0.5"
      rounded="sm"
      fontSize="sm"
      lineHeight="1.3"
      bg={tone.bg}
      color={tone.fg}
      whiteSpace="nowrap"
    >
      {children}
    </Text>
  );
}
