// Dense lists: 32 px rows.
import { Box, chakra } from "@chakra-ui/react";
import { Fragment, useSyncExternalStore } from "react";
import type { ReactNode } from "react";
import { number } from "./count";

export type Column<T> = {
  head: string;
  cell: (row: T) => ReactNode;
  /** Numbers stand at the right. */
  right?: boolean;
  /** Sentences go on in the next line rather than being cut. */
  wrap?: boolean;
  width?: string;
  /** Left out where there is no room: what the rest tells without it. */
  isMinor?: boolean;
  /** Buttons, as in every column without a head: in a narrow window they stand in a line of their own below the row. */
  isActions?: boolean;
};

const NARROW = "(max-width: 47.99em)";

/** Whether the window is narrower than the columns marked `isMinor` need. */
function useIsNarrow(): boolean {
  return useSyncExternalStore(
    (changed) => {
      const query = window.matchMedia?.(NARROW);
      query?.addEventListener("change", changed);
      return () => query?.removeEventListener("change", changed);
    },
    () => window.matchMedia?.(NARROW).matches ?? false,
  );
}

const shownOf = (column: { isMinor?: boolean }) => (column.isMinor ? { base: "none", md: "table-cell" } : undefined);

export function List<T>({ rows, columns, id, empty }: {
  rows: T[];
  columns: Column<T>[];
  id: (row: T) => string;
  empty: ReactNode;
}) {
  const isNarrow = useIsNarrow();
  const actions = isNarrow ? columns.filter((column) => column.isActions ?? column.head === "") : [];
  const inRow = columns.filter((column) => !actions.includes(column));
  if (rows.length === 0) {
    return (
      <Box color="quiet" py="10px">
        {empty}
      </Box>
    );
  }
  return (
    <Box overflowX="auto" position="relative">
      <Box as="table" w="100%" borderCollapse="collapse" fontVariantNumeric="tabular-nums">
        <thead>
          <tr>
            {inRow.map((column) => (
              <Box
                as="th"
                key={column.head}
                display={shownOf(column)}
                textAlign={column.right ? "right" : "left"}
                fontWeight="500"
                fontSize="13px"
                color="quiet"
                p={{ base: "4px 8px 4px 0", sm: "4px 14px 4px 0" }}
                borderBottom="1px solid"
                borderColor="rule"
                w={column.width}
              >
                {column.head || <Box as="span" srOnly>action</Box>}
              </Box>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <Fragment key={id(row)}>
              <Box as="tr" h="32px" _hover={{ bg: "hollow" }}>
                {inRow.map((column) => (
                  <Box
                    as="td"
                    key={column.head}
                    display={shownOf(column)}
                    textAlign={column.right ? "right" : "left"}
                    p={{ base: "3px 8px 3px 0", sm: "3px 14px 3px 0" }}
                    borderBottom="1px solid"
                    borderColor="hollow"
                    maxW={{ base: "15em", md: "26em" }}
                    overflow="hidden"
                    textOverflow="ellipsis"
                    whiteSpace={column.wrap ? "normal" : "nowrap"}
                  >
                    {column.cell(row)}
                  </Box>
                ))}
              </Box>
              {actions.length > 0 ? (
                <tr>
                  <chakra.td colSpan={inRow.length} p="2px 0 8px" borderBottom="1px solid" borderColor="hollow">
                    {actions.map((column) => (
                      <Fragment key={column.head}>{column.cell(row)}</Fragment>
                    ))}
                  </chakra.td>
                </tr>
              ) : null}
            </Fragment>
          ))}
        </tbody>
      </Box>
    </Box>
  );
}

/** The heading of a section, with its actions to the right. */
export function Heading({ children, beside }: { children: ReactNode; beside?: ReactNode }) {
  return (
    <Box display="flex" alignItems="center" flexWrap="wrap" columnGap="18px" rowGap="6px" mt="26px" mb="6px">
      <Box as="h2" fontSize="16px" fontWeight="600">
        {children}
      </Box>
      {beside}
    </Box>
  );
}

/** A section that is folded away until it is asked for; its heading says how much is in it. */
export function Folded({ heading, count, toggle, children }: {
  heading: string;
  count?: number;
  toggle?: (isOpen: boolean) => void;
  children: ReactNode;
}) {
  return (
    <Box
      as="details"
      mt="18px"
      onToggle={({ currentTarget }) => toggle?.(currentTarget instanceof HTMLDetailsElement && currentTarget.open)}
    >
      <Box as="summary" cursor="pointer" py="4px">
        <Box as="h2" display="inline" fontSize="16px" fontWeight="600">
          {heading}
          {count === undefined ? null : (
            <Box as="span" color="quiet" fontWeight="400">
              {" "}
              ({number(count)})
            </Box>
          )}
        </Box>
      </Box>
      <Box mt="6px">{children}</Box>
    </Box>
  );
}
