// The jobs of a run in columns by step, each joined to what it waits for. The critical path is drawn strong.
import { Box } from "@chakra-ui/react";
import { useMemo } from "react";
import { useNavigate } from "react-router";
import type { RunJob } from "../../api/client";
import { jobLook, Drawn } from "../../parts/mark";
import { layered } from "./layers";

const COLUMN = 210;
const ROW = 30;
const WIDTH = 170;
const HEIGHT = 24;
const MARGIN = 6;

/** A title cut to what fits into a node. */
const cut = (text: string) => (text.length > 20 ? `${text.slice(0, 19)}…` : text);

export function RunGraph({ jobs, critical }: { jobs: RunJob[]; critical: string[] }) {
  const go = useNavigate();
  const { nodes, edges, columns, rows } = useMemo(() => layered(jobs, critical), [jobs, critical]);
  if (columns < 2) return null;
  const left = (column: number) => MARGIN + column * COLUMN;
  const top = (row: number) => MARGIN + row * ROW;
  return (
    <Box overflow="auto" maxH="330px" mt="14px" border="1px solid" borderColor="rule" tabIndex={0} role="region" aria-label="Graph of the run's jobs">
      <svg
        width={left(columns - 1) + WIDTH + MARGIN}
        height={top(rows - 1) + HEIGHT + MARGIN}
        role="img"
        aria-label={`${jobs.length} jobs in ${columns} steps; the table below lists them`}
        style={{ display: "block" }}
      >
        {edges.map(({ from, to, isCritical }) => {
          const [x1, y1] = [left(from.column) + WIDTH, top(from.row) + HEIGHT / 2];
          const [x2, y2] = [left(to.column), top(to.row) + HEIGHT / 2];
          const middle = (x1 + x2) / 2;
          return (
            <path
              key={`${from.name}-${to.name}`}
              d={`M${x1} ${y1}C${middle} ${y1} ${middle} ${y2} ${x2} ${y2}`}
              fill="none"
              stroke={`var(--chakra-colors-${isCritical ? "heather" : "rule"})`}
              strokeWidth={isCritical ? 2.2 : 1.2}
            />
          );
        })}
        {nodes.map(({ name, column, row, job, isCritical }) => {
          const look = jobLook(job);
          return (
            <g key={name} transform={`translate(${left(column)} ${top(row)})`} style={{ cursor: "pointer" }} onClick={() => go(`/jobs/${name}`)}>
              <title>{`${job.title}: ${look.word}`}</title>
              <rect
                width={WIDTH}
                height={HEIGHT}
                rx="2"
                fill="var(--chakra-colors-ground)"
                stroke={`var(--chakra-colors-${isCritical ? "heather" : "rule"})`}
                strokeWidth={isCritical ? 2 : 1}
              />
              <g transform="translate(6 4.5)" style={{ color: `var(--chakra-colors-${look.tone})` }}>
                <Drawn sign={look.sign} />
              </g>
              <text x="27" y="16.5" fontSize="12.5" fill="var(--chakra-colors-ink)">
                {cut(job.title)}
              </text>
            </g>
          );
        })}
      </svg>
    </Box>
  );
}
