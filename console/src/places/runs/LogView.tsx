// A job's log, live. Only the lines in sight are in the page; the others are asked for when they come into sight, and
// only a fixed number is kept, so that a log of any length costs the same.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import { address, get } from "../../api/client";
import type { LogLines } from "../../api/client";
import { Heading } from "../../parts/list";

const ROW = 18;
const VIEW = 432;
const ROWS = VIEW / ROW;
/** Lines asked for at once, and how many such pages are kept. */
const PAGE = 400;
const KEPT = 40;
/** Browsers cannot scroll over more than some tens of millions of pixels; a longer log is scrolled in proportion. */
const TALLEST = 12_000_000;
/** How long one request waits for more of the log (µs). */
const WAIT = 8_000_000;

type State = { total: number; bytes: number; complete: boolean; capped: boolean };

const EMPTY: State = { total: 0, bytes: 0, complete: false, capped: false };

export function LogView({ job, attempt }: { job: string; attempt: number }) {
  const [state, setState] = useState<State>(EMPTY);
  const [top, setTop] = useState(0);
  const [follows, setFollows] = useState(true);
  const [, redraw] = useState(0);
  const pages = useRef(new Map<number, string[]>());
  const asked = useRef(new Set<number>());
  const box = useRef<HTMLDivElement>(null);

  const path = useCallback(
    (query: Record<string, number>) => {
      const params = new URLSearchParams({ attempt: String(attempt) });
      for (const [name, value] of Object.entries(query)) params.set(name, String(value));
      return `/jobs/${encodeURIComponent(job)}/log/lines?${params}`;
    },
    [job, attempt],
  );

  const keep = useCallback((found: LogLines) => {
    const page = Math.floor(found.first / PAGE);
    pages.current.delete(page);
    pages.current.set(page, found.lines);
    for (const old of pages.current.keys()) {
      if (pages.current.size <= KEPT) break;
      pages.current.delete(old);
    }
    setState({ total: found.total, bytes: found.bytes, complete: found.complete, capped: found.capped });
    redraw((n) => n + 1);
  }, []);

  // Follows the end: one request at a time, each waiting for more than was there before.
  useEffect(() => {
    const stop = new AbortController();
    const run = async () => {
      let bytes = -1;
      let total = 0;
      while (!stop.signal.aborted) {
        const page = Math.floor(Math.max(0, total - 1) / PAGE);
        try {
          const query = { from: page * PAGE, count: PAGE, beyond: bytes, wait_us: bytes < 0 ? 0 : WAIT };
          const found = await get<LogLines>(path(query), stop.signal);
          keep(found);
          if (found.complete && found.bytes === bytes) return;
          // The last page may have grown on into pages after it: look there next.
          const grew = found.total > (page + 1) * PAGE && found.lines.length >= PAGE;
          total = found.total;
          bytes = grew ? bytes : found.bytes;
          if (found.complete && !grew) return;
          await new Promise((resolve) => setTimeout(resolve, 60));
        } catch (error) {
          if (error instanceof DOMException) return;
          await new Promise((resolve) => setTimeout(resolve, 1000));
        }
      }
    };
    void run();
    return () => stop.abort();
  }, [path, keep]);

  const { total, complete } = state;
  const height = Math.max(VIEW, Math.min(total * ROW, TALLEST));
  const scaled = total * ROW > TALLEST;
  const last = Math.max(0, total - ROWS);
  const first = Math.min(follows ? last : top, last);
  const from = Math.floor(first);

  // Asks for the pages in sight that are not there. A short last page is asked for again when it has grown.
  useEffect(() => {
    for (const page of new Set([from, from + ROWS].map((line) => Math.floor(line / PAGE)))) {
      const known = pages.current.get(page);
      const wanted = Math.min(PAGE, total - page * PAGE);
      if (page * PAGE >= total || (known && known.length >= wanted) || asked.current.has(page)) continue;
      asked.current.add(page);
      get<LogLines>(path({ from: page * PAGE, count: PAGE }))
        .then(keep)
        .catch(() => undefined)
        .finally(() => asked.current.delete(page));
    }
  }, [from, total, path, keep]);

  // Keeps the scroll bar where the lines are.
  const placed = useRef(0);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const place = scaled ? (first / Math.max(1, last)) * (height - VIEW) : first * ROW;
    if (Math.abs(element.scrollTop - place) > 1) {
      placed.current = Math.round(place);
      element.scrollTop = place;
    }
  }, [first, last, height, scaled]);

  const scroll = () => {
    const element = box.current;
    if (!element || Math.abs(element.scrollTop - placed.current) <= 1) return;
    placed.current = element.scrollTop;
    const line = scaled ? (element.scrollTop / (height - VIEW)) * last : element.scrollTop / ROW;
    setFollows(line >= last - 1);
    setTop(line);
  };
  const wheel = (event: React.WheelEvent) => {
    if (!scaled) return;
    // In proportion, one notch would leap over thousands of lines.
    const line = Math.min(last, Math.max(0, first + event.deltaY / ROW));
    setFollows(line >= last - 1);
    setTop(line);
  };

  const rows = [];
  for (let line = from; line < Math.min(total, from + ROWS + 1); line++) {
    const text = pages.current.get(Math.floor(line / PAGE))?.[line % PAGE];
    const ours = text?.startsWith("pennine: ");
    rows.push(
      <Box key={line} display="flex" h={`${ROW}px`} whiteSpace="pre" color={ours ? "quiet" : "ink"}>
        <Box as="span" color="gritstone" w="5.5em" flex="none" textAlign="right" pr="12px" userSelect="none">
          {line + 1}
        </Box>
        {text ?? "…"}
      </Box>,
    );
  }
  const kib = state.bytes / 1024;
  const length = kib < 1024 ? `${kib.toFixed(1)} KiB` : `${(kib / 1024).toFixed(1)} MiB`;
  return (
    <Box>
      <Heading
        beside={
          <Flex gap="12px" align="center" color="quiet" fontSize="13px" wrap="wrap">
            <span data-testid="log-state">
              {total.toLocaleString("en")} lines, {length}, {complete ? "complete" : "live"}
              {state.capped ? ", cut at its cap" : ""}
            </span>
            <Button onClick={() => { setFollows(false); setTop(0); }}>
              Go to start
            </Button>
            <Button onClick={() => setFollows(true)}>
              Go to end
            </Button>
            <a href={address(`/jobs/${encodeURIComponent(job)}/log?attempt=${attempt}`)} download={`${job}.log`}>
              Raw
            </a>
          </Flex>
        }
      >
        Log
      </Heading>
      <Box
        ref={box}
        onScroll={scroll}
        onWheel={wheel}
        h={`${VIEW}px`}
        boxSizing="content-box"
        overflow="auto"
        bg="sheet"
        border="1px solid"
        borderColor="rule"
        fontFamily="mono"
        fontSize="13px"
        lineHeight={`${ROW}px`}
        position="relative"
        tabIndex={0}
        aria-label={`The log of ${job}`}
        data-testid="log"
      >
        <Box position="absolute" top="0" left="0" w="1px" style={{ height }} aria-hidden="true" />
        <Box position="sticky" top="0" left="0" h={`${VIEW}px`} overflow="visible" w="max-content" minW="100%">
          {rows}
        </Box>
      </Box>
    </Box>
  );
}
