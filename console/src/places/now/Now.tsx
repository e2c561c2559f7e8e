// Now: is anyone waiting, for what, and what is being done about it.
import { Link } from "react-router";
import { useAlerts, useStatus } from "../../api/hooks";
import { AlertList } from "../../parts/alerts";
import { AnswerLine, Figures } from "../../parts/answer";
import { JobList } from "../../parts/jobs";
import { Heading } from "../../parts/list";
import { micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

export function Now() {
  const status = useStatus();
  const alerts = useAlerts().data?.items ?? [];
  const data = status.data;
  if (!data) return status.error ? <Trouble error={status.error} /> : <Awaiting what="the state of the yard" />;
  const away = data.runners.offline + data.runners.paused + data.runners.draining;
  const joined = data.runners.available + data.runners.busy + away;
  return (
    <>
      {status.error ? <Trouble error={status.error} /> : null}
      <AnswerLine pieces={data.pieces} />
      <Figures
        figures={[
          ["jobs waiting", data.waiting],
          ["jobs executing", data.executing],
          ["slots free", `${data.free} of ${data.slots}`],
          ["longest wait", data.longest_wait_us == null ? "none" : micros(data.longest_wait_us)],
          ["runners connected", `${joined - data.runners.offline} of ${joined}`],
        ]}
      />
      {alerts.length > 0 ? (
        <>
          <Heading beside={<Link to="/alerts">Past alerts</Link>}>Open alerts</Heading>
          <AlertList alerts={alerts} empty={null} />
        </>
      ) : null}
      <Heading>Latest jobs</Heading>
      <JobList
        jobs={data.latest}
        empty={
          <>
            No job has run yet. Submit one under Runs, or with <code>pennine job submit</code>.
          </>
        }
      />
    </>
  );
}
