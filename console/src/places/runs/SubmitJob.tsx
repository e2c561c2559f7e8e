// Submits a job: everything that `pennine job submit` can set.
import { useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { Problem, post } from "../../api/client";
import type { JobLine, Schemas } from "../../api/client";
import { useProjects } from "../../api/hooks";
import { FormDialog, Modal, More } from "../../parts/form/Form";
import { CheckField, LinesField, Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readPairs, readTime, readWords } from "../../parts/form/values";
import { Awaiting, Trouble } from "../../parts/trouble";

const BANDS = ["urgent", "normal", "background"].map((band) => ({ value: band, label: band }));

/** Seats as they are typed: NAME or NAME=COUNT; or the first that is neither. */
function readSeats(text: string): { seats: Record<string, number> } | { wrong: string } {
  const seats: Record<string, number> = {};
  for (const word of readWords(text)) {
    const [name = "", count = "1"] = word.split("=");
    const number = readCount(count);
    if (!name || !number) return { wrong: `“${word}” has not the form NAME or NAME=COUNT.` };
    seats[name] = number;
  }
  return { seats };
}

function check(values: Values): Errors {
  const seats = readSeats(values.seats ?? "");
  const variables = readPairs(values.variables ?? "");
  const time = (text: string | undefined) => (text?.trim() && readTime(text) === undefined ? TIME_ERROR : undefined);
  const tries = readCount(values.tries ?? "");
  return {
    command: values.command?.trim() ? undefined : "Enter the command to run.",
    seats:
      "wrong" in seats
        ? seats.wrong
        : values.untrusted === "yes" && Object.keys(seats.seats).length > 0
          ? "An untrusted job cannot take seats."
          : undefined,
    variables: "wrong" in variables ? variables.wrong : undefined,
    time_limit: time(values.time_limit),
    give_up: time(values.give_up),
    tries: values.tries?.trim() && !tries ? "Enter a whole number of attempts, 1 or more." : undefined,
  };
}

function body(values: Values): Schemas["NewJob"] {
  const seats = readSeats(values.seats ?? "");
  const variables = readPairs(values.variables ?? "");
  const command = values.command ?? "";
  return {
    project: values.project ?? "",
    where: values.where ?? "",
    command: ["sh", "-c", command],
    title: values.title?.trim() || command.trim().split("\n")[0]?.slice(0, 60),
    band: (values.band ?? "normal") as Schemas["Band"],
    seats: "seats" in seats ? (seats.seats as Schemas["NewJob"]["seats"]) : undefined,
    trust: values.untrusted === "yes" ? "untrusted" : "trusted",
    variables: "pairs" in variables ? variables.pairs : undefined,
    time_limit_us: readTime(values.time_limit ?? ""),
    give_up_us: readTime(values.give_up ?? ""),
    tries: readCount(values.tries ?? ""),
    strict: values.strict === "yes",
    fail_unmatched: values.fail_unmatched === "yes",
  };
}

export function SubmitJob({ close }: { close: () => void }) {
  const projects = useProjects();
  if (!projects.data) return projects.error ? <Trouble error={projects.error} /> : <Awaiting what="the projects" />;
  const paths = projects.data.items.map((project) => project.path);
  if (paths.length === 0) {
    return (
      <Modal title="Submit a job" close={close}>
        No projects yet, and every job belongs to one. Add one with <code>pennine team add TEAM</code> and{" "}
        <code>pennine project add NAME --team TEAM</code>.
      </Modal>
    );
  }
  return <JobForm paths={paths} close={close} />;
}

function JobForm({ paths, close }: { paths: string[]; close: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const form = useForm({
    initial: { project: paths[0] ?? "", band: "normal", tries: "", time_limit: "", give_up: "" },
    check,
    send: (values) => post<JobLine>("/jobs", body(values)).catch((error: unknown) => Promise.reject(pointed(error, values.where ?? ""))),
    done: async (job) => {
      await queries.invalidateQueries({ queryKey: ["jobs"] });
      await navigate(`/jobs/${job.name}`);
    },
  });
  return (
    <FormDialog title="Submit a job" form={form} submit="Submit job" close={close}>
      <SelectField name="project" label="Project" options={paths.map((path) => ({ value: path, label: path }))} />
      <TextField
        name="where"
        label="Requirement"
        isCode
        placeholder="linux and gcc >= 12"
        hint="What the runner must have. Empty: any runner of a pool that accepts jobs without a requirement."
      />
      <LinesField name="command" label="Command" isRequired rows={4} placeholder="make check" hint="A shell script, run with sh -c." />
      <More label="Title, urgency, limits, seats and variables">
        <TextField name="title" label="Title" hint="Default: the first line of the command." />
        <Row>
          <SelectField name="band" label="Band" width="10em" options={BANDS} />
          <TextField name="time_limit" label="Time limit" width="10em" placeholder="1h" hint="Default: 1h." />
          <TextField name="give_up" label="Give up after" width="12em" placeholder="2h" hint="Of waiting. Default: the project's setting." />
          <TextField name="tries" label="Attempts" width="8em" inputMode="numeric" placeholder="3" hint="If runners are lost." />
        </Row>
        <TextField name="seats" label="Seats" placeholder="compiler-licence tank=1" hint="NAME or NAME=COUNT, separated by blanks." />
        <LinesField name="variables" label="Variables" placeholder="CC=clang" hint="NAME=VALUE, one per line." />
        <CheckField name="untrusted" label="The code is not trusted: run it only in pools that take untrusted jobs" />
        <CheckField name="strict" label="Refuse unknown words in the requirement" />
        <CheckField name="fail_unmatched" label="Fail at once, rather than wait, if nothing can satisfy the requirement" />
      </More>
    </FormDialog>
  );
}

/** A syntax error of the requirement, with a mark at its column. */
function pointed(error: unknown, where: string): unknown {
  if (!(error instanceof Problem) || !error.body.column) return error;
  const shown = `${where.slice(0, error.body.column - 1)}▸${where.slice(error.body.column - 1)}`;
  return new Problem(error.status, { ...error.body, detail: `${error.message}: ${shown}` });
}

