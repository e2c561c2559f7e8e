// Every alert that is on record, the latest first.
import { Box } from "@chakra-ui/react";
import { useAllAlerts } from "../../api/hooks";
import { AlertList } from "../../parts/alerts";
import { Lead } from "../../parts/answer";
import { Awaiting, Trouble } from "../../parts/trouble";

export default function Alerts() {
  const alerts = useAllAlerts();
  const all = alerts.data?.items ?? [];
  const open = all.filter((alert) => alert.ended_at == null).length;
  return (
    <>
      {alerts.error ? <Trouble error={alerts.error} /> : null}
      {alerts.data ? (
        <>
          <Lead>
            {open === 0 ? "No open alerts." : open === 1 ? "1 open alert." : `${open} open alerts.`}
          </Lead>
          <Box mt="14px">
            <AlertList alerts={all} empty="No alerts have been raised yet." />
          </Box>
        </>
      ) : (
        <Awaiting what="the alerts" />
      )}
    </>
  );
}
