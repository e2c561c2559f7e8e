// A secret that the service shows this once.
import { Box, Button, Flex } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { CopyLine } from "./copy";
import { Modal } from "./form/Form";

export function SecretDialog({ title, secret, action = "Copy secret", children, close }: {
  title: string;
  secret: string;
  /** What the button that copies it says. */
  action?: string;
  /** What it is for. */
  children: ReactNode;
  close: () => void;
}) {
  return (
    <Modal title={title} close={close}>
      <Box mb="10px">{children}</Box>
      <CopyLine text={secret} action={action} testId="secret" />
      <Box color="quiet" mt="8px">
        It is stored as a hash and is not shown again.
      </Box>
      <Flex mt="18px">
        <Button size="sm" variant="solid" onClick={close}>
          Done
        </Button>
      </Flex>
    </Modal>
  );
}
