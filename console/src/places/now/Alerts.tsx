// Every alert that is on record, the latest first.
import { Box, Flex } from "@chakra-ui/react";
import { useAllAlerts } from "../../api/hooks";
import { AlertList } from "../../parts/alerts";
import { Lead } from "../../parts/answer";
import { counted } from "../../parts/count";
import { SearchBox, contains, useSearch } from "../../parts/search";
import { Awaiting, Trouble } from "../../parts/trouble";

export default function Alerts() {
  const alerts = useAllAlerts();
  const search = useSearch();
  const all = alerts.data?.items ?? [];
  const open = all.filter((alert) => alert.ended_at == null).length;
  const shown = all.filter(({ name, kind, message, acknowledged_by, about }) =>
    contains(search, name, kind, message, acknowledged_by, about.remedy),
  );
  return (
    <>
      {alerts.error ? <Trouble error={alerts.error} /> : null}
      {alerts.data ? (
        <>
          <Flex align="flex-start" columnGap="24px" rowGap="10px" wrap="wrap">
            <Box flex="1">
              <Lead>{open === 0 ? "No open alerts." : `${counted(open, "open alert")}.`}</Lead>
            </Box>
            <SearchBox label="Search alerts" placeholder="Kind, pool, target or text" />
          </Flex>
          <Box mt="14px">
            <AlertList
              alerts={shown}
              empty={all.length === 0 ? "No alerts have been raised yet." : "No alerts match. Shorten or clear the search."}
            />
          </Box>
        </>
      ) : (
        <Awaiting what="the alerts" />
      )}
    </>
  );
}
