// A person's own account: password, second factor, sessions, own tokens.
import { Box, Button, Flex, QrCode } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { post, remove } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useAccount } from "../../api/hooks";
import { grantsText } from "../../api/may";
import { Ask } from "../../parts/act";
import { CopyLine } from "../../parts/copy";
import { FormDialog, Modal } from "../../parts/form/Form";
import { TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { Heading, List } from "../../parts/list";
import { PASSWORD_HINT, checkPassword } from "../../parts/password";
import { Ago, Until } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

type Account = Schemas["Account"];

export function Account() {
  const account = useAccount();
  if (!account.data) return account.error ? <Trouble error={account.error} /> : <Awaiting what="your account" />;
  return (
    <>
      <SignInSettings account={account.data} />
      <Sessions account={account.data} />
      <Heading>Own tokens</Heading>
      <Box maxW="60em">
        A token of your own is for the command line and for scripts. It permits at most what you may do yourself, and is added and revoked{" "}
        <Link to="/settings/tokens">with the other tokens</Link>.
      </Box>
    </>
  );
}

/** One's own roles, and those of one's groups. */
function roles({ person }: Account) {
  const own = person.grants.length > 0 ? grantsText(person.grants) : "";
  const ofGroups = person.group_grants?.length ? `${grantsText(person.group_grants)} through your groups` : "";
  return [own, ofGroups].filter((text) => text !== "").join("; ") || "none yet: ask an administrator";
}

function SignInSettings({ account }: { account: Account }) {
  const [changing, setChanging] = useState(false);
  const [second, setSecond] = useState<"add" | "remove">();
  const isOn = account.person.has_second_factor;
  return (
    <>
      <Heading>Sign-in</Heading>
      <Flex direction="column" gap="10px" maxW="60em">
        <Flex gap="14px" align="center" wrap="wrap">
          <Box w="9em" color="quiet">
            Name
          </Box>
          <Box flex="1">
            {account.person.name}
            {account.person.full_name ? ` (${account.person.full_name})` : ""}
          </Box>
        </Flex>
        <Flex gap="14px" align="center" wrap="wrap">
          <Box w="9em" color="quiet">
            Roles
          </Box>
          <Box flex="1">{roles(account)}</Box>
        </Flex>
        {account.person.groups?.length ? (
          <Flex gap="14px" align="center" wrap="wrap">
            <Box w="9em" color="quiet">
              Groups
            </Box>
            <Box flex="1">{account.person.groups.join(", ")}</Box>
          </Flex>
        ) : null}
        <Flex gap="14px" align="center" wrap="wrap">
          <Box w="9em" color="quiet">
            Password
          </Box>
          <Box flex="1">{account.has_password ? "set" : "none: you sign in through the sign-in provider"}</Box>
          {account.has_password ? <Button onClick={() => setChanging(true)}>Change password</Button> : null}
        </Flex>
        {account.has_password ? (
          <Flex gap="14px" align="center" wrap="wrap">
            <Box w="9em" color="quiet">
              Second factor
            </Box>
            <Box flex="1" color={isOn && account.recovery_codes === 0 ? "rust" : undefined}>
              {isOn
                ? `on; ${account.recovery_codes} recovery ${account.recovery_codes === 1 ? "code" : "codes"} left`
                : "off: your password alone is enough to sign in"}
            </Box>
            {isOn ? (
              <Button onClick={() => setSecond("remove")}>Remove second factor</Button>
            ) : (
              <Button onClick={() => setSecond("add")}>Add second factor</Button>
            )}
          </Flex>
        ) : null}
      </Flex>
      {changing ? <ChangePassword close={() => setChanging(false)} /> : null}
      {second === "add" ? <AddSecondFactor close={() => setSecond(undefined)} /> : null}
      {second === "remove" ? <RemoveSecondFactor close={() => setSecond(undefined)} /> : null}
    </>
  );
}

function ChangePassword({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { present: "", new: "", again: "" },
    check: ({ present, new: password, again }) => ({
      present: present ? undefined : "Enter your present password.",
      ...checkPassword("new", password, again),
    }),
    send: ({ present, new: password }) => post("/account/password", { present, new: password }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["account"] });
    },
  });
  return (
    <FormDialog title="Change your password" form={form} submit="Change password" close={close}>
      <Box>Your other sign-ins end.</Box>
      <TextField name="present" label="Present password" type="password" autoComplete="current-password" autoFocus />
      <TextField name="new" label="New password" type="password" autoComplete="new-password" hint={PASSWORD_HINT} />
      <TextField name="again" label="New password again" type="password" autoComplete="new-password" />
    </FormDialog>
  );
}

/** Asks for the password, shows the QR code, asks for a first code, shows the recovery codes. */
function AddSecondFactor({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const [factor, setFactor] = useState<Schemas["NewSecondFactor"]>();
  const [codes, setCodes] = useState<string[]>();
  const password = useForm({
    initial: { password: "" },
    check: (values) => ({ password: values.password ? undefined : "Enter your password." }),
    send: (values) => post<Schemas["NewSecondFactor"]>("/account/second-factor", { password: values.password }),
    done: setFactor,
  });
  const code = useForm({
    initial: { code: "" },
    check: (values) => ({ code: /^\d{3}\s?\d{3}$/.test(values.code?.trim() ?? "") ? undefined : "Enter six digits." }),
    send: (values) => post<Schemas["RecoveryCodes"]>("/account/second-factor/confirm", { code: values.code }),
    done: async (made) => {
      setCodes(made.codes);
      await queries.invalidateQueries({ queryKey: ["account"] });
    },
  });
  const title = "Add a second factor";
  if (codes) {
    return (
      <Modal title="Recovery codes" close={close}>
        <Box mb="10px">
          The second factor is on. Each of these codes works once in its place, when your authenticator is not at hand. Keep them where only
          you find them; they are not shown again.
        </Box>
        <Box as="pre" data-testid="recovery-codes" fontFamily="mono" fontSize="13px" bg="hollow" p="10px 14px" tabIndex={0}>
          {codes.join("\n")}
        </Box>
        <Flex mt="18px">
          <Button size="sm" variant="solid" onClick={close}>
            Done
          </Button>
        </Flex>
      </Modal>
    );
  }
  if (factor) {
    return (
      <FormDialog title={title} form={code} submit="Turn on second factor" close={close}>
        <Flex gap="18px" wrap="wrap">
          <QrCode.Root value={factor.address} size="lg" bg="white" p="8px" color="black">
            <QrCode.Frame aria-label="QR code for an authenticator" role="img">
              <QrCode.Pattern />
            </QrCode.Frame>
          </QrCode.Root>
          <Box flex="1" minW="16em">
            Scan the code with an authenticator, or type this secret into it (time-based, six digits):
            <Box mt="8px">
              <CopyLine text={factor.secret} action="Copy secret" testId="totp-secret" />
            </Box>
          </Box>
        </Flex>
        <TextField name="code" label="Code" autoFocus width="12em" inputMode="numeric" autoComplete="one-time-code" hint="The one that the authenticator shows now." />
      </FormDialog>
    );
  }
  return (
    <FormDialog title={title} form={password} submit="Continue" close={close}>
      <Box>From then on, signing in takes a code of an authenticator beside the password.</Box>
      <TextField name="password" label="Password" type="password" autoComplete="current-password" autoFocus />
    </FormDialog>
  );
}

function RemoveSecondFactor({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { password: "" },
    check: (values) => ({ password: values.password ? undefined : "Enter your password." }),
    send: (values) => post("/account/second-factor/remove", { password: values.password }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["account"] });
    },
  });
  return (
    <FormDialog title="Remove the second factor" form={form} submit="Remove second factor" close={close} isDangerous>
      <Box>Afterwards the password alone is enough to sign in. The recovery codes are no longer valid.</Box>
      <TextField name="password" label="Password" type="password" autoComplete="current-password" autoFocus />
    </FormDialog>
  );
}

function Sessions({ account }: { account: Account }) {
  return (
    <>
      <Heading>Sessions</Heading>
      <List
        rows={account.sessions}
        id={(session) => session.id}
        empty="No sessions."
        columns={[
          {
            head: "browser",
            cell: (session) => (
              <Box maxW="36em" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={session.user_agent}>
                {session.is_this ? <b>this session: </b> : null}
                {session.user_agent || "unknown"}
              </Box>
            ),
          },
          { head: "address", cell: (session) => session.last_used_from ?? session.address ?? "" },
          { head: "last used", cell: (session) => <Ago at={session.last_used_at} /> },
          { head: "ends", cell: (session) => <Until at={session.expires_at} />, isMinor: true },
          {
            head: "",
            cell: (session) =>
              session.is_this ? null : (
                <Ask
                  word="End"
                  label={`End the session of ${session.address ?? "an unknown address"}`}
                  action="End session"
                  act={() => remove(`/account/sessions/${session.id}`)}
                  stale={["account"]}
                >
                  The browser is signed out at once.
                </Ask>
              ),
            right: true,
          },
        ]}
      />
    </>
  );
}
