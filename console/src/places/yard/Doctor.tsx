// What is wrong with a runner, as far as it can be seen from the service, and what to do.
import { Box } from "@chakra-ui/react";
import type { Checkup } from "../../api/client";
import { useCheckup } from "../../api/hooks";
import { VerdictMark } from "../../parts/mark";
import { Awaiting, Trouble } from "../../parts/trouble";

const RANK: Record<Checkup["verdict"], number> = { failed: 0, warning: 1, passed: 2 };

export function Doctor({ runner }: { runner: string }) {
  const { data, error } = useCheckup(runner);
  if (!data) return error ? <Trouble error={error} /> : <Awaiting what="the doctor" />;
  const findings = [...data.findings].sort((a, b) => RANK[a.verdict] - RANK[b.verdict]);
  return (
    <Box data-testid="doctor">
      {findings.map((finding) => (
        <Box key={`${finding.check} ${finding.message}`} display="grid" gridTemplateColumns={{ base: "6em 1fr", md: "7em 7em 1fr" }} columnGap="14px" py="3px" alignItems="start">
          <VerdictMark verdict={finding.verdict} />
          <Box color="quiet">{finding.check}</Box>
          <Box>
            {finding.message}
            {finding.remedy && finding.verdict !== "passed" ? <Box>To do: {finding.remedy}</Box> : null}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
