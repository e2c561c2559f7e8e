// A line of code or a secret, with a button that copies it.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useState } from "react";

export function CopyLine({ text, action, testId }: {
  text: string;
  /** What the button says: "Copy command". */
  action: string;
  testId: string;
}) {
  const [copied, setCopied] = useState(false);
  return (
    <Flex align="center" gap="10px">
      <Box
        as="code"
        data-testid={testId}
        fontFamily="mono"
        fontSize="13px"
        bg="hollow"
        p="7px 10px"
        overflowX="auto"
        whiteSpace="nowrap"
        flex="1"
        minW="0"
        tabIndex={0}
      >
        {text}
      </Box>
      <Button size="sm" onClick={() => void navigator.clipboard?.writeText(text).then(() => setCopied(true))}>
        {copied ? "Copied" : action}
      </Button>
    </Flex>
  );
}
