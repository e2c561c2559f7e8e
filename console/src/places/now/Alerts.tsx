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
            {open === 0 ? "Nothing needs anybody now." : open === 1 ? "1 thing needs somebody." : `${open} things need somebody.`}
          </Lead>
          <Box mt="14px">
            <AlertList alerts={all} empty="Nobody was ever told of anything." />
          </Box>
        </>
      ) : (
        <Awaiting what="the alerts" />
      )}
    </>
  );
}
