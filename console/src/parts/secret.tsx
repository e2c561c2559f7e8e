// A secret that the service shows this once.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useState } from "react";
import type { ReactNode } from "react";
import { Modal } from "./form/Form";

export function SecretDialog({ title, secret, children, close }: {
  title: string;
  secret: string;
  /** What it is for. */
  children: ReactNode;
  close: () => void;
}) {
  const [copied, setCopied] = useState(false);
  return (
    <Modal title={title} close={close}>
      <Box mb="10px">{children}</Box>
      <Flex align="center" gap="10px">
        <Box
          as="code"
          data-testid="secret"
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
          {secret}
        </Box>
        <Button size="sm" onClick={() => void navigator.clipboard?.writeText(secret).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy secret"}
        </Button>
      </Flex>
      <Box color="quiet" mt="8px">
        The secret is stored as a hash and is not shown again.
      </Box>
      <Flex mt="18px">
        <Button size="sm" variant="solid" onClick={close}>
          Done
        </Button>
      </Flex>
    </Modal>
  );
}
