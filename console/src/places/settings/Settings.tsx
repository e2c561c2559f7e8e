// The settings: what is set for the whole installation or for a team, and the tokens. Each section has its address.
import { Box, Flex } from "@chakra-ui/react";
import { NavLink, Navigate, useParams } from "react-router";
import { useWho } from "../../api/hooks";
import { grantsText } from "../../api/may";
import { Lead } from "../../parts/answer";
import { Account } from "./Account";
import { AlertSettings } from "./AlertSettings";
import { Audit } from "./Audit";
import { People } from "./People";
import { Places } from "./Places";
import { Seats } from "./Seats";
import { Secrets } from "./Secrets";
import { Suppliers } from "./Suppliers";
import { Tokens } from "./Tokens";
import { Variables } from "./Variables";

const SECTIONS = [
  { path: "account", word: "My account", page: Account },
  { path: "people", word: "People", page: People },
  { path: "tokens", word: "Tokens", page: Tokens },
  { path: "teams", word: "Teams and projects", page: Places },
  { path: "variables", word: "Variables", page: Variables },
  { path: "secrets", word: "Secrets", page: Secrets },
  { path: "seats", word: "Seats", page: Seats },
  { path: "suppliers", word: "Suppliers", page: Suppliers },
  { path: "alerts", word: "Alerts", page: AlertSettings },
  { path: "audit", word: "Audit log", page: Audit },
];

export default function Settings() {
  const { section } = useParams();
  const who = useWho().data;
  const found = SECTIONS.find((one) => one.path === section);
  if (!found || (section === "account" && who && !who.is_person)) return <Navigate to="/settings/tokens" replace />;
  const Page = found.page;
  return (
    <>
      {who ? (
        <Lead>
          You are signed in as {who.full_name || who.name}: {grantsText(who.grants)}.
        </Lead>
      ) : null}
      <Flex as="nav" aria-label="Sections" columnGap="22px" rowGap="2px" wrap="wrap" mt="14px" borderBottom="1px solid" borderColor="rule">
        {SECTIONS.filter(({ path }) => path !== "account" || who?.is_person).map((one) => (
          <NavLink key={one.path} to={`/settings/${one.path}`} style={{ textDecoration: "none" }}>
            {({ isActive }) => (
              <Box
                fontWeight={isActive ? "600" : "400"}
                color={isActive ? "ink" : "quiet"}
                borderBottom="2px solid"
                borderColor={isActive ? "heather" : "transparent"}
                lineHeight="34px"
              >
                {one.word}
              </Box>
            )}
          </NavLink>
        ))}
      </Flex>
      <Page />
    </>
  );
}
