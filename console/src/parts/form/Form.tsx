// A form on a page or in a dialog. Enter sends it, Escape closes the dialog, errors stand at their fields.
import { Box, Button, CloseButton, Dialog, Flex, Portal } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import type { ReactNode, RefObject } from "react";
import { Trouble } from "../trouble";
import { FormContext } from "./state";
import type { FormState } from "./state";

type FormProps = {
  form: FormState;
  /** What its button says: a verb and its object. */
  submit: string;
  /** Further buttons. */
  beside?: ReactNode;
  children: ReactNode;
  isDangerous?: boolean;
};

export function Form({ form, submit, beside, children, isDangerous }: FormProps) {
  return (
    <FormContext value={form}>
      <form
        ref={form.element}
        noValidate
        aria-label={submit}
        onSubmit={(event) => {
          event.preventDefault();
          // A form in a dialog is, for React, inside the page that opened it.
          event.stopPropagation();
          form.submit();
        }}
      >
        <Flex direction="column" gap="14px">
          {children}
        </Flex>
        {form.failure ? <Trouble error={form.failure} /> : null}
        <Flex gap="10px" mt="18px" align="center" wrap="wrap">
          <Button type="submit" size="sm" variant={isDangerous ? "subtle" : "solid"} loading={form.isPending} loadingText={submit}>
            {submit}
          </Button>
          {beside}
        </Flex>
      </form>
    </FormContext>
  );
}

type ModalProps = {
  title: string;
  close: () => void;
  children: ReactNode;
  width?: string;
  /** What asks before something dangerous, and the button in it that has the focus first. */
  cancelButton?: RefObject<HTMLButtonElement | null>;
};

/** What is open above the page until it is closed. */
export function Modal({ title, close, children, width, cancelButton }: ModalProps) {
  // A dialog leaves the page together with what opened it: the focus goes back to where it was.
  const [before] = useState(() => document.activeElement);
  useEffect(() => () => {
    if (before instanceof HTMLElement && before.isConnected) before.focus();
  }, [before]);
  return (
    <Dialog.Root
      open
      onOpenChange={(change) => (change.open ? undefined : close())}
      // Nothing that was typed is lost by a click beside the dialog.
      closeOnInteractOutside={false}
      scrollBehavior="inside"
      role={cancelButton ? "alertdialog" : "dialog"}
      initialFocusEl={cancelButton ? () => cancelButton.current : undefined}
    >
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner p={{ base: "8px", sm: "24px" }}>
          <Dialog.Content maxW={width ?? "620px"} my={{ base: "8px", sm: "24px" }}>
            <Dialog.Header>
              <Dialog.Title>{title}</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>{children}</Dialog.Body>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" variant="ghost" aria-label="Close" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

/** A form in a dialog. */
export function FormDialog({ title, close, width, ...form }: FormProps & { title: string; close: () => void; width?: string }) {
  return (
    <Modal title={title} close={close} width={width}>
      <Form
        {...form}
        beside={
          <>
            {form.beside}
            <Button size="sm" variant="ghost" onClick={close}>
              Cancel
            </Button>
          </>
        }
      />
    </Modal>
  );
}

type ConfirmProps = {
  title: string;
  /** What it does, to how many. */
  children: ReactNode;
  /** What its button says. */
  action: string;
  isPending: boolean;
  error: unknown;
  confirm: () => void;
  close: () => void;
};

/** Asks once, with the consequence. */
export function Confirm({ title, children, action, isPending, error, confirm, close }: ConfirmProps) {
  const cancel = useRef<HTMLButtonElement>(null);
  return (
    <Modal title={title} close={close} cancelButton={cancel}>
      <Box>{children}</Box>
      {error ? <Trouble error={error} /> : null}
      <Flex gap="10px" mt="18px">
        <Button size="sm" variant="subtle" loading={isPending} loadingText={action} onClick={confirm}>
          {action}
        </Button>
        <Button size="sm" variant="ghost" onClick={close} ref={cancel}>
          Cancel
        </Button>
      </Flex>
    </Modal>
  );
}

/** What is rarely needed, folded away. */
export function More({ label, children }: { label: string; children: ReactNode }) {
  return (
    <details>
      <Box as="summary" cursor="pointer" color="quiet" fontSize="14px">
        {label}
      </Box>
      <Flex direction="column" gap="14px" mt="10px">
        {children}
      </Flex>
    </details>
  );
}
