// What stands on every page: the skyline, the places in one row, and what the keyboard does.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { ReactNode } from "react";
import { Link, NavLink } from "react-router";
import { remove } from "../api/client";
import type { SignedIn } from "../api/client";
import { useSkyline } from "../api/hooks";
import { useLive } from "../api/live";
import { AlertBanner } from "../parts/alerts";
import { Skyline } from "../parts/skyline";
import { KeyList, PLACES, useKeys } from "./keys";
import { turnTheme } from "./theme";

const plain = { variant: "ghost", size: "xs", color: "quiet", fontWeight: "400" } as const;

export function Frame({ who, children }: { who: SignedIn; children: ReactNode }) {
  const connected = useLive();
  const skyline = useSkyline();
  const queries = useQueryClient();
  const [theme, setTheme] = useState(() => (document.documentElement.classList.contains("dark") ? "dark" : "light"));
  const keys = useKeys();
  const signOut = async () => {
    await remove("/session");
    await queries.resetQueries();
  };
  return (
    <Box minH="100vh">
      <Link to="/" aria-label="Now: the last hour of the yard">
        <Skyline steps={skyline.data?.steps ?? []} windowUs={skyline.data?.window_us ?? 1} height={48} />
      </Link>
      <Flex
        as="nav"
        align="center"
        gap="26px"
        px="28px"
        h="44px"
        borderBottom="1px solid"
        borderColor="rule"
        aria-label="Places"
      >
        {PLACES.map((place) => (
          <NavLink key={place.path} to={place.path} end={place.path === "/"} style={{ textDecoration: "none" }}>
            {({ isActive }) => (
              <Box
                fontWeight={isActive ? "600" : "400"}
                color={isActive ? "ink" : "quiet"}
                borderBottom="2px solid"
                borderColor={isActive ? "heather" : "transparent"}
                lineHeight="42px"
              >
                {place.word}
              </Box>
            )}
          </NavLink>
        ))}
        <Box flex="1" />
        {connected ? null : (
          <Box role="status" color="rust" fontSize="13px">
            Live connection lost. It reconnects by itself and catches up.
          </Box>
        )}
        <Box color="quiet" fontSize="13px">
          {who.installation}, as {who.name}
        </Box>
        <Button {...plain} onClick={() => setTheme(turnTheme())}>
          {theme === "dark" ? "Light" : "Dark"}
        </Button>
        <Button {...plain} onClick={() => keys.show(true)} aria-label="Keyboard shortcuts">
          Keys
        </Button>
        <Button {...plain} onClick={() => void signOut()}>
          Sign out
        </Button>
      </Flex>
      <AlertBanner />
      <Box as="main" maxW="1320px" mx="auto" px="28px" pt="20px" pb="60px">
        {children}
      </Box>
      <KeyList shown={keys.shown} close={() => keys.show(false)} />
    </Box>
  );
}
