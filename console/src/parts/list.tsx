// Dense lists: 32 px rows.
import { Box } from "@chakra-ui/react";
import type { ReactNode } from "react";

export type Column<T> = {
  head: string;
  cell: (row: T) => ReactNode;
  /** Numbers stand at the right. */
  right?: boolean;
  /** Sentences go on in the next line rather than being cut. */
  wrap?: boolean;
  width?: string;
};

export function List<T>({ rows, columns, id, empty }: {
  rows: T[];
  columns: Column<T>[];
  id: (row: T) => string;
  empty: ReactNode;
}) {
  if (rows.length === 0) {
    return (
      <Box color="quiet" py="10px">
        {empty}
      </Box>
    );
  }
  return (
    <Box overflowX="auto">
      <Box as="table" w="100%" borderCollapse="collapse" fontVariantNumeric="tabular-nums">
        <thead>
          <tr>
            {columns.map((column) => (
              <Box
                as="th"
                key={column.head}
                textAlign={column.right ? "right" : "left"}
                fontWeight="500"
                fontSize="13px"
                color="quiet"
                p="4px 14px 4px 0"
                borderBottom="1px solid"
                borderColor="rule"
                w={column.width}
              >
                {column.head}
              </Box>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <Box as="tr" key={id(row)} h="32px" _hover={{ bg: "hollow" }}>
              {columns.map((column) => (
                <Box
                  as="td"
                  key={column.head}
                  textAlign={column.right ? "right" : "left"}
                  p="3px 14px 3px 0"
                  borderBottom="1px solid"
                  borderColor="hollow"
                  maxW="26em"
                  overflow="hidden"
                  textOverflow="ellipsis"
                  whiteSpace={column.wrap ? "normal" : "nowrap"}
                >
                  {column.cell(row)}
                </Box>
              ))}
            </Box>
          ))}
        </tbody>
      </Box>
    </Box>
  );
}

/** The heading of a section, with its actions to the right. */
export function Heading({ children, beside }: { children: ReactNode; beside?: ReactNode }) {
  return (
    <Box display="flex" alignItems="baseline" gap="18px" mt="26px" mb="6px">
      <Box as="h2" fontSize="16px" fontWeight="600">
        {children}
      </Box>
      {beside}
    </Box>
  );
}
