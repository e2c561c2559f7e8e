// Tries a requirement against the yard before anyone submits: what would run it, and what excludes the rest.
import { Box, Field, Input } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { post, Problem, type Trial } from "../../api/client";
import { List } from "../../parts/list";

export function TryOut() {
  const [text, setText] = useState("");
  const asked = useDeferredValue(text.trim());
  const trial = useQuery({
    queryKey: ["where", asked],
    queryFn: () => post<Trial>("/where", { where: asked }),
    enabled: asked !== "",
    retry: false,
    placeholderData: keepPreviousData,
  });
  const data = asked ? trial.data : undefined;
  const column = trial.error instanceof Problem ? trial.error.body.column : undefined;
  return (
    <Box mt="28px">
      <Field.Root maxW="34em">
        <Field.Label>Try a requirement</Field.Label>
        <Input
          name="try"
          size="sm"
          fontFamily="mono"
          placeholder="linux and gcc >= 12"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <Field.HelperText>Shows which runners satisfy it, and which clause excludes the others.</Field.HelperText>
      </Field.Root>
      {trial.error && asked ? (
        <Box role="alert" color="rust" mt="6px" fontSize="14px">
          {column ? (
            <Box as="pre" fontFamily="mono" fontSize="13px">
              {asked}
              {"\n"}
              {" ".repeat(Math.max(0, column - 1))}^
            </Box>
          ) : null}
          {(trial.error as Error).message}
        </Box>
      ) : null}
      {data && !trial.error ? (
        <Box data-testid="trial" mt="6px" maxW="60em">
          <Box>{data.message}</Box>
          {data.hints.map((hint) => (
            <Box key={hint.word} color="rust">
              No runner has “{hint.word}”{hint.nearest ? `; did you mean “${hint.nearest}”?` : "."}
            </Box>
          ))}
          {data.explanation.clauses.length > 0 && data.standing.satisfying < data.explanation.runners ? (
            <List
              rows={data.explanation.clauses}
              id={(clause) => clause.clause}
              empty=""
              columns={[
                { head: "clause", cell: (clause) => <code>{clause.clause}</code> },
                { head: "excludes", cell: (clause) => `${clause.failing} of ${data.explanation.runners} runners`, right: true },
              ]}
            />
          ) : null}
          {data.explanation.nearest && data.standing.satisfying === 0 ? (
            <Box color="quiet">
              The nearest is {data.explanation.nearest.runner}, which fails only {data.explanation.nearest.fails.join(", ")}.
            </Box>
          ) : null}
          {data.runners.length > 0 ? (
            <Box color="quiet">
              {data.runners
                .slice(0, 8)
                .map((one) => `${one.runner} (${one.pool}, ${one.state}, ${one.free} free)`)
                .join(" · ")}
              {data.runners.length > 8 ? " · …" : ""}
            </Box>
          ) : null}
        </Box>
      ) : null}
    </Box>
  );
}
