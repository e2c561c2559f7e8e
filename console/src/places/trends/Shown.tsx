// A chart with its title, and the same as a table and a file.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useState } from "react";
import type { ReactNode } from "react";
import { Heading, List } from "../../parts/list";
import { save } from "./csv";

export function Choice({ on, set, children }: { on: boolean; set: () => void; children: ReactNode }) {
  return (
    <Button
      aria-pressed={on}
      onClick={set}
    >
      {children}
    </Button>
  );
}

/** A chart that can also be read as a table, and taken along as a file. */
export function Shown({ title, file, rows, chart }: { title: string; file: string; rows: () => (string | number)[][]; chart: ReactNode }) {
  const [table, setTable] = useState(false);
  const [heads = [], ...lines] = table ? rows() : [];
  return (
    <>
      <Heading
        beside={
          <Flex gap="6px">
            <Choice on={table} set={() => setTable(!table)}>
              Table
            </Choice>
            <Choice on={false} set={() => save(file, rows())}>
              CSV
            </Choice>
          </Flex>
        }
      >
        {title}
      </Heading>
      {table ? (
        <Box maxH="420px" overflowY="auto">
          <List
            rows={lines}
            id={(line) => line.join(" ")}
            empty="Nothing."
            columns={heads.map((head, i) => ({ head: String(head), cell: (line: (string | number)[]) => line[i], right: i > 0 }))}
          />
        </Box>
      ) : (
        chart
      )}
    </>
  );
}
