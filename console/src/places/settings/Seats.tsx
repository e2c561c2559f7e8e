// Seats: how many there are and who holds them; added, changed, taken back.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { post, send } from "../../api/client";
import type { Seat } from "../../api/client";
import { useSeats } from "../../api/hooks";
import { useMay } from "../../api/may";
import { number } from "../../parts/count";
import { FormDialog } from "../../parts/form/Form";
import { TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { readCount } from "../../parts/form/values";
import { KeptInFile } from "../../parts/kept";
import { Heading, List } from "../../parts/list";
import { Since } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

type Holder = Seat["holders"][number];

/** A holder with its seat, as a row of the list of holders. */
type Holding = Holder & { seat: string };

export function Seats() {
  const seats = useSeats();
  const may = useMay();
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Seat>();
  const [taking, setTaking] = useState<Holding>();
  const all = seats.data?.items ?? [];
  const holdings: Holding[] = all.flatMap((seat) => seat.holders.map((holder) => ({ ...holder, seat: seat.name })));
  const manages = may("operator", "");
  return (
    <>
      <Heading beside={manages ? <Button onClick={() => setAdding(true)}>Add seats</Button> : null}>Seats</Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        A seat is a counted resource that jobs hold while they run, such as a licence or a test bench. A job waits until enough of them
        are free.
      </Box>
      {adding ? <SeatForm close={() => setAdding(false)} /> : null}
      {changing ? <SeatForm seat={changing} close={() => setChanging(undefined)} /> : null}
      {taking ? <TakeBack holding={taking} close={() => setTaking(undefined)} /> : null}
      {seats.error ? <Trouble error={seats.error} /> : null}
      {seats.data ? (
        <>
          <List
            rows={all}
            id={(seat) => seat.name}
            empty="No seats yet. Add seats for what jobs must not use at the same time."
            columns={[
              {
                head: "seat",
                cell: (seat) => (
                  <Flex align="baseline" gap="10px">
                    <b>{seat.name}</b>
                    <KeptInFile kind="seat" name={seat.name} isBrief />
                  </Flex>
                ),
              },
              { head: "description", cell: (seat) => seat.description, isMinor: true },
              { head: "taken", cell: (seat) => `${number(seat.taken)} of ${number(seat.count)}`, right: true },
              {
                head: "reserved",
                cell: (seat) =>
                  (seat.kept_back ?? [])
                    .map((kept) => `${kept.count} for ${kept.job || "a job of another team"}`)
                    .join(", "),
              },
              {
                head: "",
                cell: (seat) =>
                  manages ? (
                    <Button aria-label={`Change the seats ${seat.name}`} onClick={() => setChanging(seat)}>
                      Change
                    </Button>
                  ) : null,
                right: true,
              },
            ]}
          />
          <Heading>Holders</Heading>
          <List
            rows={holdings}
            id={(one) => `${one.seat} ${one.job}`}
            empty="No jobs hold seats."
            columns={[
              { head: "job", cell: (one) => <Link to={`/jobs/${one.job}`}>{one.job}</Link> },
              { head: "project", cell: (one) => one.project },
              { head: "runner", cell: (one) => one.runner, isMinor: true },
              { head: "seat", cell: (one) => (one.count > 1 ? `${one.count} × ${one.seat}` : one.seat) },
              { head: "for", cell: (one) => <Since at={one.since} />, right: true },
              {
                head: "",
                cell: (one) => {
                  if (one.taken_back) return <Box color="quiet">taken back by {one.taken_back.by}: {one.taken_back.reason}</Box>;
                  return manages ? (
                    <Button variant="ghost" aria-label={`Take ${one.seat} back from ${one.job}`} onClick={() => setTaking(one)}>
                      Take back …
                    </Button>
                  ) : null;
                },
                right: true,
                wrap: true,
              },
            ]}
          />
        </>
      ) : seats.error ? null : (
        <Awaiting what="the seats" />
      )}
    </>
  );
}

const check = (values: Values): Errors => ({
  name: /^[\w-]+$/.test(values.name ?? "") ? undefined : "Enter a name of letters, digits, - and _.",
  count: readCount(values.count ?? "") ? undefined : "Enter a whole number, 1 or more.",
});

/** Adds seats, or changes the given ones. */
function SeatForm({ seat, close }: { seat?: Seat; close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { name: seat?.name ?? "", count: String(seat?.count ?? 1), description: seat?.description ?? "" },
    check,
    send: async ({ name, count, description }) => {
      const body = { count: Number(count), description };
      try {
        return seat
          ? await send<Seat>("PATCH", `/seats/${encodeURIComponent(seat.name)}`, body, seat.settings_version)
          : await post<Seat>("/seats", { name, ...body });
      } finally {
        void queries.invalidateQueries({ queryKey: ["seats"] });
      }
    },
    done: close,
  });
  const submit = seat ? "Change seats" : "Add seats";
  return (
    <FormDialog title={seat ? `Change the seats ${seat.name}` : "Add seats"} form={form} submit={submit} close={close}>
      {seat ? null : <TextField name="name" label="Name" isRequired autoFocus placeholder="compiler-licence" hint="Letters, digits, - and _." />}
      <TextField
        name="count"
        label="Count"
        width="9em"
        inputMode="numeric"
        hint={seat ? "A lower count ends no jobs: seats above it are not given out again." : "How many there are."}
      />
      <TextField name="description" label="Description" />
    </FormDialog>
  );
}

function TakeBack({ holding, close }: { holding: Holding; close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { reason: "" },
    check: ({ reason }) => ({ reason: reason?.trim() ? undefined : "Enter a reason, for the record." }),
    send: ({ reason }) => post(`/seats/${encodeURIComponent(holding.seat)}/take-back`, { job: holding.job, reason }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["seats"] });
    },
  });
  const title = `Take ${holding.seat} back from ${holding.job}`;
  return (
    <FormDialog title={title} form={form} submit="Take seat back" close={close} isDangerous>
      <Box>
        {holding.job} continues without the seat. Another job may get it at once, so that two jobs may use the same resource.
      </Box>
      <TextField name="reason" label="Reason" isRequired autoFocus />
    </FormDialog>
  );
}
