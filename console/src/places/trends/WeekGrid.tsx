// The hours of the week: how busy the slots were, and how long jobs waited that became ready then.
import { Box, Flex } from "@chakra-ui/react";
import type { TrendFigures, WeekPattern } from "../../api/client";
import { micros } from "../../parts/time";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const HOURS = Array.from({ length: 24 }, (_, hour) => hour);

export const busyShare = (figures: TrendFigures) =>
  figures.offered_us ? figures.busy_us / figures.offered_us : null;

type Measure = { word: string; tone: string; value: (figures: TrendFigures) => number | null; said: (value: number) => string };

export const MEASURES: Measure[] = [
  { word: "busy", tone: "heather", value: busyShare, said: (share) => `${Math.round(share * 100)} %` },
  { word: "waits, p95", tone: "bracken", value: (figures) => figures.wait.p95?.value_us ?? null, said: (us) => micros(us) },
];

export function WeekGrid({ week, measure }: { week: WeekPattern; measure: Measure }) {
  const at = new Map(week.hours.map((one) => [one.day * 24 + one.hour, one.figures]));
  const values = [...at.values()].map(measure.value).filter((value) => value !== null);
  const most = Math.max(...values, Number.MIN_VALUE);
  const highest = [...at.entries()].sort((a, b) => (measure.value(b[1]) ?? -1) - (measure.value(a[1]) ?? -1))[0];
  const name = highest && measure.value(highest[1]) !== null
    ? `highest: ${DAYS[Math.floor(highest[0] / 24)]} ${highest[0] % 24}:00, ${measure.said(measure.value(highest[1])!)}`
    : "no data";
  return (
    <Box position="relative">
      <Box as="table" w="100%" borderSpacing="1px" css={{ borderCollapse: "separate", tableLayout: "fixed" }} fontSize="11px" color="quiet">
        <caption style={{ textAlign: "left", fontSize: 13, paddingBottom: 4 }}>
          {measure.word}, by the hour of the week; {name}
        </caption>
        <thead>
          <tr>
            <Box as="th" w="34px" />
            {HOURS.map((hour) => (
              <th key={hour} scope="col" style={{ fontWeight: 400 }}>
                {hour % 3 === 0 ? hour : ""}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {DAYS.map((day, index) => (
            <tr key={day}>
              <th scope="row" style={{ fontWeight: 400, textAlign: "left" }}>
                {day}
              </th>
              {HOURS.map((hour) => {
                const figures = at.get(index * 24 + hour);
                const value = figures ? measure.value(figures) : null;
                const said = value === null ? "no data" : measure.said(value);
                return (
                  <Box as="td" key={hour} h="17px" p="0" bg="hollow" title={`${day} ${hour}:00: ${said}`}>
                    {value === null ? null : (
                      <Box h="17px" bg={measure.tone} opacity={0.08 + 0.92 * (value / most)}>
                        <Box as="span" srOnly>
                          {said}
                        </Box>
                      </Box>
                    )}
                  </Box>
                );
              })}
            </tr>
          ))}
        </tbody>
      </Box>
      <Flex gap="6px" align="center" mt="4px" color="quiet" fontSize="12px">
        <span>none</span>
        {[0.08, 0.3, 0.55, 0.8, 1].map((opacity) => (
          <Box key={opacity} w="22px" h="9px" bg={measure.tone} opacity={opacity} />
        ))}
        <span>{values.length ? measure.said(most) : ""}</span>
      </Flex>
    </Box>
  );
}
