// A runner's slots as strips of time: what ran when, the gaps, and when it was away or took nothing.
import { Box } from "@chakra-ui/react";
import { memo } from "react";
import { useNavigate } from "react-router";
import type { RunnerTime } from "../../api/client";

/** What the bars stand for: the legend draws the same. */
const FAILED = ["failure", "error", "timeout"];

/** States in which a runner takes nothing, each with a ground of its own. */
const GROUND: Record<string, string> = {
  offline: "away",
  awaited: "away",
  retired: "away",
  paused: "still",
  draining: "still",
};

const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
/** The least room that an hour's mark needs, in px. */
const MARK = 58;

/** Patterns that the strips are filled with, so that tone is never alone; once per page. */
export function StripPatterns() {
  return (
    <svg width="0" height="0" style={{ position: "absolute" }} aria-hidden="true">
      <defs>
        <pattern id="strip-away" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <line x1="0" y1="0" x2="0" y2="5" stroke="var(--chakra-colors-gritstone)" strokeWidth="1.4" opacity="0.55" />
        </pattern>
        <pattern id="strip-still" width="4" height="4" patternUnits="userSpaceOnUse">
          <line x1="2" y1="0" x2="2" y2="4" stroke="var(--chakra-colors-gritstone)" strokeWidth="1" opacity="0.45" />
        </pattern>
      </defs>
    </svg>
  );
}

type Props = {
  time: RunnerTime | undefined;
  /** The stretch that is drawn, in ms since 1970. */
  from: number;
  until: number;
  width: number;
  height: number;
};

export const Strip = memo(function Strip({ time, from, until, width, height }: Props) {
  const navigate = useNavigate();
  if (!time) return <Box w={`${width}px`} h={`${height}px`} bg="hollow" />;
  const x = (at: number) => Math.max(0, Math.min(width, ((at - from) / (until - from)) * width));
  const lanes = Math.max(1, time.lanes.length);
  const lane = height / lanes;
  const grounds = time.states.flatMap((one, i) => {
    const fill = GROUND[one.state];
    const begin = x(Date.parse(one.from));
    const next = time.states[i + 1];
    const end = next ? x(Date.parse(next.from)) : width;
    return fill && end > begin ? [{ ...one, fill, begin, end, at: one.from }] : [];
  });
  const jobs = time.lanes.reduce((sum, one) => sum + one.length, 0);
  return (
    <svg
      width={width}
      height={height}
      role="img"
      aria-label={`${jobs} jobs since ${clock.format(from)}`}
      style={{ display: "block", background: "var(--chakra-colors-hollow)" }}
    >
      {grounds.map((one) => (
        <rect key={one.at} x={one.begin} width={one.end - one.begin} y={0} height={height} fill={`url(#strip-${one.fill})`}>
          <title>{`${one.state} from ${clock.format(Date.parse(one.from))}: ${one.why}`}</title>
        </rect>
      ))}
      {time.lanes.map((stretches, i) =>
        stretches.map((one) => {
          const begin = x(Date.parse(one.started ?? one.from));
          const end = x(one.until ? Date.parse(one.until) : until);
          const wide = Math.max(1.5, end - begin);
          const failed = one.result != null && FAILED.includes(one.result);
          const runs = one.until == null;
          const top = i * lane + (lane > 6 ? 1 : 0.5);
          const high = lane - (lane > 6 ? 2 : 1);
          return (
            <g key={`${one.job} ${one.from}`} style={{ cursor: "pointer" }} onClick={() => void navigate(`/jobs/${one.job}`)}>
              <title>{`${one.job} ${one.title} of ${one.project}, ${clock.format(Date.parse(one.from))}: ${
                runs ? "executing" : (one.result ?? "")
              }${one.said ? `, ${one.said}` : ""}`}</title>
              <rect
                x={begin}
                width={wide}
                y={top}
                height={high}
                fill={`var(--chakra-colors-${failed ? "rust" : "heather"})`}
                opacity={runs ? 1 : 0.72}
              />
              {failed && wide > 3 ? (
                <line x1={begin} y1={top + high} x2={begin + wide} y2={top} stroke="var(--chakra-colors-ground)" strokeWidth="1.2" />
              ) : null}
            </g>
          );
        }),
      )}
      {lanes > 1 && lane > 4
        ? Array.from({ length: lanes - 1 }, (_, i) => (
            <line
              key={i}
              x1={0}
              x2={width}
              y1={(i + 1) * lane}
              y2={(i + 1) * lane}
              stroke="var(--chakra-colors-rule)"
              strokeWidth="0.6"
            />
          ))
        : null}
    </svg>
  );
});

/** Hours along the top of strips. */
export function Hours({ from, until, width }: { from: number; until: number; width: number }) {
  const hour = 3_600_000;
  const every = Math.max(1, Math.ceil((MARK / width) * ((until - from) / hour))) * hour;
  // By the reader's own midnight, as far as whole hours go.
  const shift = (new Date(from).getTimezoneOffset() * 60_000) % every;
  const marks: number[] = [];
  for (let at = Math.ceil((from - shift) / every) * every + shift; at < until; at += every) marks.push(at);
  return (
    <svg width={width} height={14} aria-hidden="true" style={{ display: "block", overflow: "visible" }}>
      {marks.map((at) => (
        <text
          key={at}
          x={((at - from) / (until - from)) * width}
          y={11}
          style={{ fontSize: "11px" }}
          textAnchor={at - from < every / 3 ? "start" : until - at < every / 3 ? "end" : "middle"}
          fill="var(--chakra-colors-quiet)"
        >
          {clock.format(at)}
        </text>
      ))}
    </svg>
  );
}

/** What the strips' drawings mean. */
export function Legend() {
  const sample = (label: string, drawing: React.ReactNode) => (
    <Box as="span" display="inline-flex" alignItems="center" gap="5px">
      <svg width="22" height="10" aria-hidden="true" style={{ background: "var(--chakra-colors-hollow)" }}>
        {drawing}
      </svg>
      {label}
    </Box>
  );
  const all = { x: 0, y: 0, width: 22, height: 10 };
  return (
    <Box display="flex" gap="16px" color="quiet" fontSize="13px" flexWrap="wrap">
      {sample("executes", <rect {...all} fill="var(--chakra-colors-heather)" />)}
      {sample(
        "failed",
        <>
          <rect {...all} fill="var(--chakra-colors-rust)" opacity="0.72" />
          <line x1="0" y1="10" x2="22" y2="0" stroke="var(--chakra-colors-ground)" strokeWidth="1.2" />
        </>,
      )}
      {sample("free", null)}
      {sample("paused or draining", <rect {...all} fill="url(#strip-still)" />)}
      {sample("away", <rect {...all} fill="url(#strip-away)" />)}
    </Box>
  );
}
