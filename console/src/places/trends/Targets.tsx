// Targets: what is promised of waits, how much of each error budget is left, and when it is used up.
import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, remove } from "../../api/client";
import type { Target } from "../../api/client";
import { usePools, useProjects, useTargets, useTeams } from "../../api/hooks";
import { Heading, List } from "../../parts/list";
import { Glyph } from "../../parts/mark";
import { micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { css } from "./reasons";

const LOOK = {
  "too-few": { sign: "flag", tone: "gritstone" },
  met: { sign: "cairn", tone: "moss" },
  "at-risk": { sign: "summit", tone: "rust" },
  missed: { sign: "cross", tone: "rust" },
} as const;

const whose = (target: Target) => (target.pool ? `pool ${target.pool}` : (target.place ?? "all jobs"));

/** The share of the error budget used: late waits over allowed late waits. */
function Budget({ target }: { target: Target }) {
  const { window, allowed, left } = target.standing;
  const used = allowed > 0 ? Math.min(1, window.late / allowed) : window.late > 0 ? 1 : 0;
  const said = `${window.late} late, ${allowed} allowed`;
  return (
    <Flex align="center" gap="10px" title={said}>
      <Box w="120px" h="10px" bg="hollow" border="1px solid" borderColor="rule" flex="none" role="img" aria-label={said}>
        <div style={{ width: `${used * 100}%`, height: "100%", background: css(left < 0 ? "rust" : "bracken") }} />
      </Box>
      <span>{said}</span>
    </Flex>
  );
}

export function Targets() {
  const targets = useTargets();
  const [adding, setAdding] = useState(false);
  const all = targets.data?.items ?? [];
  return (
    <>
      <Heading
        beside={
          <Button size="xs" variant="outline" color="ink" borderColor="rule" aria-pressed={adding} onClick={() => setAdding(!adding)}>
            {adding ? "Close" : "Add target"}
          </Button>
        }
      >
        Targets
      </Heading>
      {targets.error ? <Trouble error={targets.error} /> : null}
      {adding ? <AddTarget close={() => setAdding(false)} /> : null}
      {targets.data ? (
        <List
          rows={all}
          id={(target) => target.name}
          empty="No targets yet. Add a target to be alerted before waits grow too long."
          columns={[
            { head: "target", cell: (target) => <b>{target.name}</b> },
            { head: "scope", cell: whose },
            { head: "objective", cell: (target) => target.message },
            {
              head: "state",
              cell: ({ standing }) => (
                <Flex gap="6px" align="center" color={LOOK[standing.state].tone} title={standing.message}>
                  <Glyph sign={LOOK[standing.state].sign} />
                  {standing.state}
                </Flex>
              ),
            },
            {
              head: "in time",
              cell: ({ standing: { window } }) =>
                window.kept + window.late > 0 ? `${((window.kept * 100) / (window.kept + window.late)).toFixed(1)} %` : "",
              right: true,
            },
            { head: "error budget", cell: (target) => <Budget target={target} /> },
            {
              head: "burn rate",
              cell: ({ standing }) => (standing.burn == null ? "" : (standing.burn / 1000).toFixed(1)),
              right: true,
            },
            {
              head: "budget lasts",
              cell: ({ standing }) => (standing.missed_in_us == null ? "" : micros(standing.missed_in_us)),
              right: true,
            },
            { head: "", cell: (target) => <Remove target={target} />, right: true },
          ]}
        />
      ) : targets.error ? null : (
        <Awaiting what="the targets" />
      )}
    </>
  );
}

function Remove({ target }: { target: Target }) {
  const queries = useQueryClient();
  const [asked, setAsked] = useState(false);
  const gone = useMutation({
    mutationFn: () => remove(`/targets/${encodeURIComponent(target.name)}`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["targets"] }),
  });
  if (gone.error) return <Trouble error={gone.error} />;
  return (
    <Button
      size="xs"
      variant="ghost"
      color={asked ? "rust" : "quiet"}
      loading={gone.isPending}
      onBlur={() => setAsked(false)}
      onClick={() => (asked ? gone.mutate() : setAsked(true))}
      aria-label={`Remove the target ${target.name}`}
    >
      {asked ? "Remove target" : "Remove"}
    </Button>
  );
}

const UNITS = { seconds: 1, minutes: 60, hours: 3600 } as const;

function AddTarget({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const [of, setOf] = useState("");
  const [share, setShare] = useState("95");
  const [within, setWithin] = useState("2");
  const [unit, setUnit] = useState<keyof typeof UNITS>("minutes");
  const [days, setDays] = useState("7");
  const pools = usePools().data?.items ?? [];
  const teams = useTeams().data?.items ?? [];
  const projects = useProjects().data?.items ?? [];
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () => {
      const [kind, what] = [of.slice(0, of.indexOf(":")), of.slice(of.indexOf(":") + 1)];
      return post<Target>("/targets", {
        name,
        ...(kind ? { [kind]: what } : {}),
        share: Math.round(Number(share) * 10),
        within_us: Math.round(Number(within) * UNITS[unit] * 1e6),
        days: Number(days),
      });
    },
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["targets"] });
      close();
    },
  });
  const field = { size: "sm", bg: "sheet", borderColor: "rule" } as const;
  const choice = { background: "var(--chakra-colors-sheet)", border: "1px solid var(--chakra-colors-rule)", height: 36, padding: "0 8px", borderRadius: 4 };
  return (
    <Box asChild bg="sheet" border="1px solid" borderColor="rule" borderRadius="4px" p="14px 18px" my="14px">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <Flex gap="14px" align="flex-end" wrap="wrap">
          <label>
            Name
            <Input {...field} w="12em" name="name" value={name} onChange={(event) => setName(event.target.value)} autoFocus />
          </label>
          <label>
            Of
            <br />
            <select style={choice} value={of} onChange={(event) => setOf(event.target.value)}>
              <option value="">all jobs</option>
              {pools.map((pool) => (
                <option key={pool.name} value={`pool:${pool.name}`}>
                  pool {pool.name}
                </option>
              ))}
              {[...teams, ...projects].map((place) => (
                <option key={place.path} value={`place:${place.path}`}>
                  {place.path}
                </option>
              ))}
            </select>
          </label>
          <label>
            Share of jobs, %
            <Input {...field} w="7em" inputMode="decimal" value={share} onChange={(event) => setShare(event.target.value)} />
          </label>
          <label>
            within
            <Flex gap="4px">
              <Input {...field} w="5em" inputMode="decimal" value={within} onChange={(event) => setWithin(event.target.value)} />
              <select style={choice} aria-label="unit" value={unit} onChange={(event) => setUnit(event.target.value as keyof typeof UNITS)}>
                {Object.keys(UNITS).map((word) => (
                  <option key={word}>{word}</option>
                ))}
              </select>
            </Flex>
          </label>
          <label>
            over days
            <Input {...field} w="5em" inputMode="numeric" value={days} onChange={(event) => setDays(event.target.value)} />
          </label>
          <Button type="submit" size="sm" bg="heather" color="ground" loading={add.isPending} disabled={name === ""}>
            Add target
          </Button>
        </Flex>
        {add.error ? <Trouble error={add.error} /> : null}
      </form>
    </Box>
  );
}
