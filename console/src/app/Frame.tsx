// What stands on every page: the skyline, the places in one row, and what the keyboard does.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { ReactNode } from "react";
import { NavLink, useLocation } from "react-router";
import { remove } from "../api/client";
import type { SignedIn } from "../api/client";
import { useSkyline } from "../api/hooks";
import { useLive } from "../api/live";
import { AlertBanner } from "../parts/alerts";
import { Skyline } from "../parts/skyline";
import { KeyList, PLACES, useKeys } from "./keys";
import { turnTheme } from "./theme";

/** The room beside the content. */
const EDGE = { base: "14px", md: "28px" } as const;

export function Frame({ who, children }: { who: SignedIn; children: ReactNode }) {
  const { pathname } = useLocation();
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
      <Box as="header">
        <Skyline steps={skyline.data?.steps ?? []} windowUs={skyline.data?.window_us ?? 1} height={48} />
        <Flex
          align="center"
          columnGap={{ base: "16px", md: "26px" }}
          px={EDGE}
          minH="44px"
          wrap="wrap"
          borderBottom="1px solid"
          borderColor="rule"
        >
          <Flex as="nav" aria-label="Places" columnGap={{ base: "18px", md: "26px" }}>
            {PLACES.map((place) => (
              <NavLink key={place.path} to={place.path} end={place.path === "/"} style={{ textDecoration: "none" }}>
                {({ isActive }) => {
                  const isHere = isActive || place.pages.some((page) => pathname.startsWith(page));
                  return (
                    <Box
                      fontWeight={isHere ? "600" : "400"}
                      color={isHere ? "ink" : "quiet"}
                      borderBottom="2px solid"
                      borderColor={isHere ? "heather" : "transparent"}
                      lineHeight="42px"
                    >
                      {place.word}
                    </Box>
                  );
                }}
              </NavLink>
            ))}
          </Flex>
          <Box flex="1" />
          {connected ? null : (
            <Box role="status" color="rust" fontSize="13px">
              Live connection lost. It reconnects by itself and catches up.
            </Box>
          )}
          <Flex align="center" columnGap={{ base: "2px", md: "12px" }} pb={{ base: "4px", md: "0" }}>
            <Box color="quiet" fontSize="13px" mr="8px" display={{ base: "none", sm: "block" }}>
              {who.installation}, signed in as {who.full_name || who.name}
            </Box>
            <NavLink to="/settings" style={{ textDecoration: "none" }}>
              {({ isActive }) => (
                <Box fontSize="13px" fontWeight={isActive ? "600" : "500"} color={isActive ? "ink" : "quiet"} px="8px">
                  Settings
                </Box>
              )}
            </NavLink>
            <Button variant="ghost" onClick={() => setTheme(turnTheme())} aria-label={theme === "dark" ? "Light theme" : "Dark theme"}>
              {theme === "dark" ? "Light" : "Dark"}
            </Button>
            <Button variant="ghost" onClick={() => keys.show(true)} aria-label="Keys: keyboard shortcuts">
              Keys
            </Button>
            <Button variant="ghost" onClick={() => void signOut()}>
              Sign out
            </Button>
          </Flex>
        </Flex>
      </Box>
      <AlertBanner />
      <Box as="main" maxW="1320px" mx="auto" px={EDGE} pt={{ base: "14px", md: "20px" }} pb="60px">
        {children}
      </Box>
      {keys.shown ? <KeyList close={() => keys.show(false)} /> : null}
    </Box>
  );
}
