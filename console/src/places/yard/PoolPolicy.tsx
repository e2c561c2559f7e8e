// How many machines a pool has: its policy, tried first ("what if the ceiling were 8 now?") and then changed.
import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { patch } from "../../api/client";
import type { ChangedPool, Pool } from "../../api/client";
import { Heading } from "../../parts/list";
import { money } from "../../parts/money";
import { micros } from "../../parts/time";
import { Trouble } from "../../parts/trouble";

const FIELDS = ["floor", "spare", "ceiling"] as const;
type Field = (typeof FIELDS)[number];

const SAID: Record<Field, string> = {
  floor: "floor",
  spare: "spare",
  ceiling: "ceiling",
};

export function PoolPolicy({ pool }: { pool: Pool }) {
  const supply = pool.supply!;
  const [typed, setTyped] = useState<Partial<Record<Field, string>>>({});
  const queries = useQueryClient();
  const changed = FIELDS.filter((field) => typed[field] !== undefined && typed[field] !== String(supply[field]));
  const wanted = Object.fromEntries(changed.map((field) => [field, Number(typed[field])]));
  const ask = (preview: boolean) =>
    patch<ChangedPool>(`/pools/${encodeURIComponent(pool.name)}`, { supply: wanted, preview, accept_losses: true });
  const foresee = useMutation({ mutationFn: () => ask(true) });
  const change = useMutation({
    mutationFn: () => ask(false),
    onSuccess: () => {
      setTyped({});
      foresee.reset();
      void queries.invalidateQueries({ queryKey: ["pools"] });
    },
  });
  const foreseen = foresee.data?.decisions ?? [];
  const budget = [
    supply.budget?.day != null ? `${money(supply.budget.day)} a day` : "",
    supply.budget?.month != null ? `${money(supply.budget.month)} a month` : "",
  ].filter(Boolean);
  const facts: [string, string][] = [
    ["from", [supply.supplier, supply.image, supply.size].filter(Boolean).join(", ")],
    ["kind", supply.single_use ? "single-use (one job per machine)" : `standing, ${supply.slots} ${supply.slots === 1 ? "slot" : "slots"} each`],
    ["dwell", micros(supply.dwell_us)],
    ["price per hour", money(pool.standing?.price ?? 0)],
    ["budget", budget.join(", ") || "none"],
    ...(supply.week?.times ?? []).map((times): [string, string] => [
      times.days.join(" "),
      `${times.from} to ${times.until} ${supply.week?.zone || "UTC"}:${times.floor == null ? "" : ` floor ${times.floor}`}${times.spare == null ? "" : ` spare ${times.spare}`}`,
    ]),
  ];
  return (
    <>
      <Heading>Policy</Heading>
      <Box as="dl" display="grid" gridTemplateColumns="8.5em 1fr" rowGap="3px">
        {facts.map(([name, value]) => (
          <Box key={name} display="contents">
            <Box as="dt" color="quiet">
              {name}
            </Box>
            <dd>{value}</dd>
          </Box>
        ))}
      </Box>
      <Flex gap="14px" mt="12px">
        {FIELDS.map((field) => (
          <Box key={field} as="label">
            <Box fontSize="13px">
              {field} <Box as="span" color="quiet">{SAID[field]}</Box>
            </Box>
            <Input
              size="sm"
              w="7em"
              bg="sheet"
              borderColor="rule"
              inputMode="numeric"
              aria-label={field}
              value={typed[field] ?? String(supply[field])}
              onChange={(event) => {
                foresee.reset();
                setTyped({ ...typed, [field]: event.target.value.replace(/\D/g, "") });
              }}
            />
          </Box>
        ))}
      </Flex>
      <Flex gap="10px" mt="10px" align="center">
        <Button
          size="sm"
          variant="outline"
          borderColor="rule"
          color="ink"
          disabled={changed.length === 0}
          loading={foresee.isPending}
          onClick={() => foresee.mutate()}
        >
          Preview decisions
        </Button>
        {foresee.data ? (
          <Button size="sm" bg="heather" color="ground" loading={change.isPending} onClick={() => change.mutate()}>
            Change policy
          </Button>
        ) : null}
      </Flex>
      {foresee.error ?? change.error ? <Trouble error={foresee.error ?? change.error} /> : null}
      {foresee.data ? (
        <Box mt="8px" role="status" data-testid="foreseen">
          {foreseen.length === 0
            ? "No machines would be ordered or released now."
            : foreseen.map((one) => <Box key={one.message}>Decision: {one.message}.</Box>)}
        </Box>
      ) : null}
    </>
  );
}
