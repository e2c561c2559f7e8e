// A runner's slots as strips of time: what ran when, the gaps, and when it was away or took nothing.
import { Box } from "@chakra-ui/react";
import { memo, useLayoutEffect, useRef } from "react";
import { useNavigate } from "react-router";
import type { RunnerTime } from "../../api/client";

/** What the bars stand for: the legend draws the same. */
const FAILED = ["failure", "error", "timeout"];

/** States in which a runner takes nothing, each with a ground of its own. */
const GROUND: Record<string, "away" | "still"> = {
  offline: "away",
  awaited: "away",
  retired: "away",
  paused: "still",
  draining: "still",
};

const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
/** The least room that an hour's mark needs, in px. */
const MARK = 58;

type Props = {
  theme: string;
  time: RunnerTime | undefined;
  /** The stretch that is drawn, in ms since 1970. */
  from: number;
  until: number;
  width: number;
  height: number;
};

type Ink = string | CanvasPattern;
type Inks = Record<"ground" | "slash" | "rule" | "heather" | "rust" | "away" | "still", Ink>;

const INKS = new Map<string, Inks>();

/** The tones and patterns that strips are drawn with, so that tone is never alone; made once for each theme. */
function inks(theme: string): Inks {
  const known = INKS.get(theme);
  if (known) return known;
  const style = getComputedStyle(document.documentElement);
  const tone = (name: string) => style.getPropertyValue(`--chakra-colors-${name}`).trim() || "gray";
  const pattern = (draw: (on: CanvasRenderingContext2D) => void): Ink => {
    const tile = document.createElement("canvas");
    tile.width = tile.height = 6;
    const on = tile.getContext("2d");
    if (!on) return tone("gritstone");
    on.strokeStyle = tone("gritstone");
    on.globalAlpha = 0.6;
    on.lineWidth = 1.2;
    on.beginPath();
    draw(on);
    on.stroke();
    return on.createPattern(tile, "repeat") ?? tone("gritstone");
  };
  const line = (on: CanvasRenderingContext2D, ...at: [number, number, number, number]) => {
    on.moveTo(at[0], at[1]);
    on.lineTo(at[2], at[3]);
  };
  const made = {
    ground: tone("hollow"),
    slash: tone("ground"),
    rule: tone("rule"),
    heather: tone("heather"),
    rust: tone("rust"),
    away: pattern((on) => {
      line(on, -1, 7, 7, -1);
      line(on, -1, 1, 1, -1);
      line(on, 5, 7, 7, 5);
    }),
    still: pattern((on) => line(on, 2, 0, 2, 6)),
  };
  INKS.set(theme, made);
  return made;
}

/** Something that a strip shows, and where. What it says is put into words when the pointer is on it. */
type Mark = { left: number; right: number; top: number; bottom: number; says: () => string; job?: string };

function describe(one: RunnerTime["lanes"][number][number]): string {
  const ended = one.until == null ? "executing" : (one.result ?? "");
  // A job of a project that may not be seen has no name.
  const job = one.job ? `${one.job} ${one.title} of ${one.project}` : "a job of another team";
  return `${job}, ${clock.format(Date.parse(one.from))}: ${ended}${one.message ? `, ${one.message}` : ""}`;
}

/** Draws a strip, and tells what is where on it. Drawn by hand: a page of strips holds thousands of stretches. */
function draw(on: CanvasRenderingContext2D, time: RunnerTime, { theme, from, until, width, height }: Props): Mark[] {
  const ink = inks(theme);
  const marks: Mark[] = [];
  const x = (at: number) => Math.max(0, Math.min(width, ((at - from) / (until - from)) * width));
  on.fillStyle = ink.ground;
  on.fillRect(0, 0, width, height);
  time.states.forEach((one, i) => {
    const next = time.states[i + 1];
    const left = x(Date.parse(one.from));
    const right = next ? x(Date.parse(next.from)) : width;
    const fill = GROUND[one.state];
    if (right <= left) return;
    if (fill) {
      on.fillStyle = ink[fill];
      on.fillRect(left, 0, right - left, height);
    }
    const says = () => `${one.state} from ${clock.format(Date.parse(one.from))}: ${one.reason}`;
    marks.push({ left, right, top: 0, bottom: height, says });
  });
  const lane = height / Math.max(1, time.lanes.length);
  const gap = lane > 6 ? 1 : 0.5;
  time.lanes.forEach((stretches, i) => {
    for (const one of stretches) {
      const left = x(Date.parse(one.started ?? one.from));
      const right = Math.max(left + 1.5, x(one.until ? Date.parse(one.until) : until));
      const failed = one.result != null && FAILED.includes(one.result);
      const top = i * lane + gap;
      const bottom = (i + 1) * lane - gap;
      on.globalAlpha = one.until == null ? 1 : 0.72;
      on.fillStyle = failed ? ink.rust : ink.heather;
      on.fillRect(left, top, right - left, bottom - top);
      on.globalAlpha = 1;
      if (failed && right - left > 3) {
        on.strokeStyle = ink.slash;
        on.lineWidth = 1.2;
        on.beginPath();
        on.moveTo(left, bottom);
        on.lineTo(right, top);
        on.stroke();
      }
      marks.push({ left, right, top, bottom, says: () => describe(one), job: one.job });
    }
    if (i > 0 && lane > 4) {
      on.fillStyle = ink.rule;
      on.fillRect(0, i * lane, width, 0.6);
    }
  });
  return marks;
}

export const Strip = memo(function Strip(props: Props) {
  const { time, from, width, height } = props;
  const navigate = useNavigate();
  const canvas = useRef<HTMLCanvasElement>(null);
  const marks = useRef<Mark[]>([]);
  useLayoutEffect(() => {
    const on = canvas.current?.getContext("2d");
    if (!on) return;
    on.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
    // The canvas may show another runner's time still.
    if (!time) on.clearRect(0, 0, width, height);
    marks.current = time ? draw(on, time, props) : [];
  });
  /** The topmost mark under the pointer. */
  const under = (event: React.MouseEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    return marks.current.findLast((one) => x >= one.left - 1 && x <= one.right + 1 && y >= one.top && y <= one.bottom);
  };
  const jobs = time?.lanes.reduce((sum, one) => sum + one.length, 0) ?? 0;
  return (
    <canvas
      ref={canvas}
      width={width * devicePixelRatio}
      height={height * devicePixelRatio}
      role="img"
      aria-label={`${jobs} ${jobs === 1 ? "job" : "jobs"} since ${clock.format(from)}`}
      style={{ display: "block", width, height, background: "var(--chakra-colors-hollow)" }}
      onMouseMove={(event) => {
        const found = under(event);
        event.currentTarget.title = found?.says() ?? "";
        event.currentTarget.style.cursor = found?.job ? "pointer" : "";
      }}
      onClick={(event) => {
        const job = under(event)?.job;
        if (job) void navigate(`/jobs/${job}`);
      }}
    />
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

/** The patterns that the legend is filled with. */
function Patterns() {
  const stroke = "var(--chakra-colors-gritstone)";
  return (
    <svg width="0" height="0" style={{ position: "absolute" }} aria-hidden="true">
      <defs>
        <pattern id="strip-away" width="6" height="6" patternUnits="userSpaceOnUse">
          <path d="M-1 7 7-1M-1 1 1-1M5 7 7 5" stroke={stroke} strokeWidth="1.2" opacity="0.6" />
        </pattern>
        <pattern id="strip-still" width="6" height="6" patternUnits="userSpaceOnUse">
          <path d="M2 0V6" stroke={stroke} strokeWidth="1.2" opacity="0.6" />
        </pattern>
      </defs>
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
      <Patterns />
      {sample("executing", <rect {...all} fill="var(--chakra-colors-heather)" />)}
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
