// The frame of a page that needs no sign-in.
import { Box } from "@chakra-ui/react";
import type { ReactNode } from "react";

export function Alone({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box as="main" maxW="34em" mx="auto" mt="14vh" px="20px">
      <Box as="h1" fontSize="26px" fontWeight="500" mb="14px">
        {title}
      </Box>
      {children}
    </Box>
  );
}
