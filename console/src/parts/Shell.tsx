import { Box, Flex, IconButton, Stack, Text } from "@chakra-ui/react";
import { Suspense, useEffect, useState } from "react";
import {
  LuBell,
  LuChartGantt,
  LuClapperboard,
  LuDoorOpen,
  LuHandshake,
  LuKeyRound,
  LuMoon,
  LuRoute,
  LuScrollText,
  LuServer,
  LuSun,
  LuTelescope,
} from "react-icons/lu";
import { NavLink, Outlet } from "react-router";
import { answered, client, type Schemas } from "../api/client";
import { Attention } from "./Attention";
import { moment, zoneName } from "./format";
import { useMode } from "./mode";
import { Loading } from "./States";

const places = [
  { to: "/hosts", label: "Hosts", icon: LuServer },
  { to: "/sources", label: "Sources", icon: LuHandshake },
  { to: "/shots", label: "Shots", icon: LuClapperboard },
  { to: "/plans", label: "Plans", icon: LuRoute },
  { to: "/runs", label: "Runs", icon: LuTelescope },
  { to: "/schedule", label: "Schedule", icon: LuChartGantt },
  { to: "/notifications", label: "Notices", icon: LuBell },
  { to: "/access", label: "Access", icon: LuKeyRound },
  { to: "/audit", label: "Audit", icon: LuScrollText },
];

/** The service's clock, going on by itself between two answers. */
function ServiceClock({ clock }: { clock: Schemas["Session"]["clock"] }) {
  const [shown, setShown] = useState(clock.now);
  useEffect(() => {
    const asked = Date.now();
    const began = Date.parse(clock.now);
    const show = () => setShown(new Date(began + (Date.now() - asked) * clock.factor).toISOString());
    show();
    const timer = setInterval(show, 1000);
    return () => clearInterval(timer);
  }, [clock]);
  return (
    <Box fontSize="xs" color="fg.muted" textAlign="center">
      <Text>{moment(shown)}</Text>
      <Text>{clock.factor === 1 ? zoneName() : `${zoneName()}, ×${clock.factor}`}</Text>
    </Box>
  );
}

/** The frame around every page: a rail with the places to go. */
export function Shell({ session }: { session: Schemas["Session"] }) {
  const [mode, toggle] = useMode();
  const signOut = async () => {
    await answered(client.DELETE("/session"));
    location.assign("/");
  };
  return (
    // On a phone the rail lies below, within reach of the thumb.
    <Flex minH="100vh" direction={{ base: "column-reverse", md: "row" }}>
      <Box
        asChild
        position="fixed"
        top="0"
        left="0"
        bg="paper"
        px="4"
        py="2"
        zIndex="skipNav"
        transform="translateY(-120%)"
        _focus={{ transform: "none" }}
      >
        <a href="#contents">Skip to the contents</a>
      </Box>
      <Stack
        as="header"
        direction={{ base: "row", md: "column" }}
        position="sticky"
        top={{ md: "0" }}
        bottom={{ base: "0", md: "auto" }}
        zIndex={{ base: "docked", md: "auto" }}
        h={{ md: "100vh" }}
        w={{ md: "112px" }}
        flexShrink={0}
        bg="rail"
        borderTopWidth={{ base: "1px", md: "0" }}
        borderRightWidth={{ md: "1px" }}
        borderColor="line"
        py={{ base: "1", md: "5" }}
        gap={{ base: "0", md: "6" }}
        align="center"
      >
        <Stack align="center" gap="1.5" display={{ base: "none", md: "flex" }}>
          <img src="/icon.svg" alt="" width="36" height="36" />
          <Text fontWeight="semibold" fontSize="sm" letterSpacing="0.02em">
            Rotanex
          </Text>
        </Stack>
        <Stack
          as="nav"
          aria-label="Places"
          direction={{ base: "row", md: "column" }}
          gap="1"
          w="full"
          px={{ base: "1", md: "3" }}
          flex="1"
          minW="0"
          overflowX={{ base: "auto", md: "visible" }} // on a phone there is more than fits
        >
          {places.map(({ to, label, icon: Icon }) => (
            <Stack
              key={to}
              asChild
              align="center"
              gap={{ base: "0", md: "0.5" }}
              flex={{ base: "1 0 auto", md: "initial" }}
              px={{ base: "1", md: "0" }}
              py="1.5"
              rounded="md"
              color="fg.muted"
              fontSize={{ base: "xs", md: "sm" }}
              _hover={{ bg: "paper" }}
              css={{ "&[aria-current=page]": { bg: "paper", color: "brass.fg", fontWeight: 600 } }}
            >
              <NavLink to={to}>
                <Icon size={20} aria-hidden />
                {label}
              </NavLink>
            </Stack>
          ))}
        </Stack>
        <Stack align="center" gap="3" px={{ base: "0", md: "2" }} flexShrink={0}>
          <Box display={{ base: "none", md: "block" }}>
            <ServiceClock clock={session.clock} />
          </Box>
          <Flex>
            <IconButton
              size="sm"
              variant="ghost"
              color="fg.muted"
              aria-label={mode === "dark" ? "Light colours" : "Dark colours"}
              onClick={toggle}
            >
              {mode === "dark" ? <LuSun /> : <LuMoon />}
            </IconButton>
            <IconButton
              size="sm"
              variant="ghost"
              color="fg.muted"
              aria-label={`Sign out ${session.name}`}
              title={`Signed in as ${session.name} (${session.role})`}
              onClick={signOut}
            >
              <LuDoorOpen />
            </IconButton>
          </Flex>
        </Stack>
      </Stack>
      <Box id="contents" flex="1" minW="0" tabIndex={-1} outline="none">
        {session.trouble && (
          <Box
            role="alert"
            px={{ base: "4", md: "5", xl: "10" }}
            py="2.5"
            bg="paper"
            borderBottomWidth="1px"
            borderColor="failed"
          >
            <Text color="failed">No frame is taken in until that is fixed: {session.trouble}</Text>
          </Box>
        )}
        <Attention />
        <Suspense fallback={<Loading />}>
          <Outlet />
        </Suspense>
      </Box>
    </Flex>
  );
}
