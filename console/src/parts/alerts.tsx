// Open alerts: a banner on every page until an alert is acknowledged, and a list.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useLocation } from "react-router";
import { post } from "../api/client";
import type { Alert } from "../api/client";
import { useAlerts } from "../api/hooks";
import { useMay } from "../api/may";
import { Glyph } from "./mark";
import { Ago, Since } from "./time";
import { Trouble } from "./trouble";

/** Where it is to be looked at. */
function place(alert: Alert): string {
  const { about } = alert;
  if (about.target) return "/trends";
  if (about.job) return `/jobs/${about.job}`;
  if (about.pool) return `/pools/${encodeURIComponent(about.pool)}`;
  return "/yard";
}

function Acknowledge({ alert }: { alert: Alert }) {
  const may = useMay();
  const queries = useQueryClient();
  const see = useMutation({
    mutationFn: () => post<Alert>(`/alerts/${alert.name}/acknowledge`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["alerts"] }),
  });
  if (!may("operator")) return null;
  return (
    <>
      <Button
        bg="transparent"
        color="inherit"
        loading={see.isPending}
        onClick={() => see.mutate()}
        aria-label={`Acknowledge ${alert.name}`}
      >
        Acknowledge
      </Button>
      {see.error ? <Trouble error={see.error} /> : null}
    </>
  );
}

/** The pages that list them anyhow. */
const LISTED = ["/", "/alerts"];

/** The most urgent alert that is not acknowledged, and the number of other ones. */
export function AlertBanner() {
  const alerts = useAlerts();
  const { pathname } = useLocation();
  const [first, ...rest] = (alerts.data?.items ?? []).filter((alert) => alert.urgent && !alert.acknowledged_at);
  if (!first || LISTED.includes(pathname)) return null;
  return (
    <Flex
      role="alert"
      bg="rustWash"
      color="rust"
      borderBottom="1px solid"
      borderColor="rust"
      px={{ base: "14px", md: "28px" }}
      py="5px"
      minH="40px"
      columnGap="12px"
      align="center"
      wrap={{ base: "wrap", md: "nowrap" }}
      data-testid="banner"
    >
      <Glyph sign="flag" />
      <Box minW="0" lineClamp={{ base: 2, md: 1 }} flex={{ base: "1 1 calc(100% - 40px)", md: "0 1 auto" }} title={first.message}>
        <Link to={place(first)} style={{ color: "inherit", textDecoration: "underline" }}>
          {first.message}
        </Link>
      </Box>
      <Box flex="none" fontSize="13px">
        for <Since at={first.since} />
      </Box>
      <Box flex="1" />
      {rest.length > 0 ? (
        <Link to="/alerts" style={{ color: "inherit", textDecoration: "underline", flex: "none" }}>
          {rest.length === 1 ? "1 more alert" : `${rest.length} more alerts`}
        </Link>
      ) : null}
      <Acknowledge alert={first} />
    </Flex>
  );
}

/** Alerts with what to do about each. */
export function AlertList({ alerts, empty }: { alerts: Alert[]; empty: ReactNode }) {
  if (alerts.length === 0) {
    return (
      <Box color="quiet" py="10px">
        {empty}
      </Box>
    );
  }
  return (
    <Box as="ul" listStyleType="none" data-testid="alerts">
      {alerts.map((alert) => {
        const over = alert.ended_at != null;
        const tone = over ? "gritstone" : alert.urgent ? "rust" : "bracken";
        return (
          <Flex
            as="li"
            key={alert.name}
            columnGap="14px"
            rowGap="2px"
            wrap={{ base: "wrap", md: "nowrap" }}
            py="7px"
            borderBottom="1px solid"
            borderColor="rule"
            align="flex-start"
            data-alert={alert.kind}
          >
            <Flex gap="6px" align="center" color={tone} w="10.5em" flex="none">
              <Glyph sign={over ? "cairn" : "flag"} />
              {alert.kind}
            </Flex>
            <Box flex={{ base: "1 1 100%", md: "1" }} minW="0">
              <Box>
                <Link to={place(alert)}>{alert.message}</Link>
              </Box>
              <Box color="quiet" fontSize="13px">
                {alert.name}, {over ? null : (
                  <>
                    for <Since at={alert.since} />
                  </>
                )}
                {alert.ended_at ? (
                  <>
                    over <Ago at={alert.ended_at} />
                  </>
                ) : null}
                {alert.state === "clearing" ? ", not true at the moment" : ""}
                {alert.acknowledged_by ? `; acknowledged by ${alert.acknowledged_by}` : ""}
                {over || !alert.about.remedy ? "" : `; ${alert.about.remedy}`}
              </Box>
            </Box>
            {over || alert.acknowledged_at ? null : (
              <Box flex="none" color="ink">
                <Acknowledge alert={alert} />
              </Box>
            )}
          </Flex>
        );
      })}
    </Box>
  );
}
