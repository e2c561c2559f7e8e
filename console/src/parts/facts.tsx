// Names and values, one pair on each line.
import { Box } from "@chakra-ui/react";

export function FactList({ facts }: { facts: [string, string][] }) {
  return (
    <Box as="dl" display="grid" gridTemplateColumns="8.5em 1fr" rowGap="3px">
      {facts.map(([name, value]) => (
        <Box key={`${name} ${value}`} display="contents">
          <Box as="dt" color="quiet">
            {name}
          </Box>
          <dd>{value}</dd>
        </Box>
      ))}
    </Box>
  );
}
