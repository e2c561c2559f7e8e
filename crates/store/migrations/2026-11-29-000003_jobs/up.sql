-- Runs, jobs, attempts, and how their waits are explained. No foreign key points into this history.

create table seat (
  id           uuid primary key,
  name         text not null unique,
  description  text not null,
  count        integer not null check (count >= 0),
  created_at   timestamptz not null,
  -- For which jobs seats are reserved once they come free, the oldest first: [{"job": ..., "number": ..., "count": ...}].
  -- The leader writes it, so that every replica can name them.
  reserved_for jsonb not null default '[]'
);

create table strand (
  id         uuid primary key,
  key_hash   bytea not null unique,
  key        jsonb not null,
  project_id uuid not null references place,
  created_at timestamptz not null
);
create index strand_project on strand (project_id);

-- A strand's reasons as a timeline: one row per change, an empty list when no job of it waits any more.
create table strand_reason (
  strand_id uuid not null,
  since     timestamptz not null,
  segments  jsonb not null,
  primary key (strand_id, since)
) partition by range (since);

-- The waiting jobs of each strand in parts with one reason, as the leader last wrote them: what is shown of the queue.
create table waiting_line (
  strand_id   uuid not null,
  part        integer not null,
  -- The leader's, so that a new one can remove what it did not write.
  epoch       bigint not null,
  project_id  uuid not null,
  requirement text not null,
  reason      text not null,
  cause       text not null,
  jobs        bigint not null,
  oldest      timestamptz not null,
  -- The number of the first job, and how many jobs of the strand stand before it.
  first       bigint not null,
  place       bigint not null,
  primary key (strand_id, part)
) with (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02);
create index waiting_line_oldest on waiting_line (oldest, strand_id, part);
create index waiting_line_group on waiting_line (reason, cause, oldest, strand_id, part);

-- The sums of these rows by project, reason and cause.
create table waiting_group (
  project_id uuid not null,
  reason     text not null,
  cause      text not null,
  jobs       bigint not null,
  strands    bigint not null,
  oldest     timestamptz not null,
  primary key (project_id, reason, cause)
) with (fillfactor = 50, autovacuum_vacuum_scale_factor = 0.02);

-- The strands that a job was in before its present one, and until when: a wait is split by the timeline of the strand in
-- which it was spent.
create table strand_visit (
  job_id    uuid not null,
  strand_id uuid not null,
  until     timestamptz not null,
  primary key (job_id, until)
) partition by range (until);
create index strand_visit_strand on strand_visit (strand_id, until);

create sequence run_number as bigint;
create table source_archive (
  id         uuid primary key,
  project_id uuid not null,
  bytes      bigint not null,
  -- The SHA-256 of the archive, in hexadecimal.
  digest     text not null,
  created_at timestamptz not null,
  created_by text not null
);
create index source_archive_by_age on source_archive (created_at);

create table run (
  id         uuid primary key,
  number     bigint not null default nextval('run_number'),
  project_id uuid not null,
  created_at timestamptz not null,
  created_by text not null,
  -- The job of a run that is one job submitted alone: it has the run's title, state and end.
  only_job     uuid,
  -- The archive with which its jobs begin; it is removed before the run is.
  source_id    uuid,
  -- The address of the repository with which its jobs begin, at the run's revision.
  repository   text,
  -- What it does otherwise than its sheet says.
  overrides    jsonb not null default '{}',
  -- Of a run of a job sheet: its text, what the run is of, and when its last job was done.
  sheet        text,
  title        text not null default '',
  branch       text,
  revision     text,
  event        text,
  values       jsonb not null default '{}',
  newer_run    text not null default 'leave',
  -- The number of the run that has overtaken it.
  overtaken_by bigint,
  -- When a part of it was last tried again.
  resumed_at   timestamptz,
  finished_at  timestamptz
) partition by range (id);
create index run_by_number on run (number);
create index run_of_source on run (source_id) where source_id is not null;
create index run_open on run (project_id, branch) where sheet is not null and finished_at is null;

create sequence job_number as bigint;
create table job (
  id              uuid primary key,
  number          bigint not null default nextval('job_number'),
  run_id          uuid not null,
  project_id      uuid not null,
  strand_id       uuid not null,
  state           text not null,
  result          text,
  message         text,
  exit_code       integer,
  title           text not null,
  requirement     text not null,
  command         jsonb not null,
  -- Of a job of a sheet that lists commands: each of them. They are the command together.
  commands        jsonb not null default '[]',
  variables       jsonb not null,
  -- The secrets that it is given, by name, and how.
  secrets         jsonb not null default '{}',
  time_limit_us   bigint not null,
  tries           integer not null,
  band            text not null default 'normal',
  seats           jsonb not null default '{}',
  trust           text not null default 'trusted',
  give_up_us      bigint,
  give_up_at      timestamptz,
  fail_unmatched  boolean not null default false,
  created_at      timestamptz not null,
  -- When it first became ready, and when it last did: the first keeps its place in the queue.
  ready_at        timestamptz,
  waits_since     timestamptz,
  started_at      timestamptz,
  finished_at     timestamptz,
  attempts        integer not null default 0,
  -- Attempts that count against its tries.
  losses          integer not null default 0,
  current_attempt uuid,
  avoid_runner    uuid,
  cancel_at       timestamptz,
  cancel_by       text,
  -- The number of the job that was submitted in place of this one: a job that was retried once is not found again.
  retried_as      bigint,
  -- Of a job of a sheet: its place in its run, the places of the jobs that it waits for, and what its failure means.
  position        integer,
  needs           jsonb not null default '[]',
  on_failure      text not null default 'stop',
  failures        integer not null default 0,
  failure_tries   integer not null default 1,
  -- Whether a person has to release it, and who has.
  hold            boolean not null default false,
  released_at     timestamptz,
  released_by     text,
  -- An update that changes no indexed column writes no index entry, and a column counts as indexed when an index's
  -- condition names it. A job's state and attempt change three times in its life: the indexes go by these columns
  -- instead, which change once.
  open            boolean not null generated always as (state <> 'done') stored,
  never_ran       boolean not null generated always as (state = 'done' and current_attempt is null) stored
) partition by range (id);
create index job_by_number on job (number);
create index job_open on job (strand_id) where open;
create index job_of_run on job (run_id) where position is not null;
create index job_give_up on job (give_up_at) where open and give_up_at is not null;
create index job_ended on job (finished_at) where finished_at is not null;
create index job_failed on job (number) where result <> 'success' and retried_as is null;
create index job_never_ran on job (strand_id, finished_at) where never_ran;

-- Actions on many jobs, and the jobs that each is still to change.
create sequence bulk_action_number as bigint;
create table bulk_action (
  id         uuid primary key,
  number     bigint not null unique default nextval('bulk_action_number'),
  request    jsonb not null,
  state      text not null,
  created_at timestamptz not null,
  created_by text not null,
  created_by_kind text not null,
  found      bigint,
  handled    bigint not null default 0,
  changed    bigint not null default 0,
  ended_at   timestamptz,
  message    text
);
create table bulk_action_job (
  action_id uuid not null references bulk_action on delete cascade,
  place     bigint not null,
  job_id    uuid not null,
  primary key (action_id, place)
);

create table attempt (
  id                uuid primary key,
  job_id            uuid not null,
  number            integer not null,
  runner_id         uuid not null,
  pool_id           uuid not null,
  strand_id         uuid not null,
  facts_version     integer not null,
  policy_version    integer not null,
  lease             uuid not null,
  -- The session of the runner that holds it.
  session           uuid,
  state             text not null,
  result            text,
  accepted          boolean not null default false,
  message           text,
  exit_code         integer,
  ready_at          timestamptz not null,
  assigned_at       timestamptz not null,
  acknowledged_at   timestamptz,
  started_at        timestamptz,
  exited_at         timestamptz,
  finished_at       timestamptz,
  -- When its parts began, as its runner reports.
  phases            jsonb not null default '{}',
  processor_us      bigint,
  peak_memory       bigint,
  -- From storage and to it, without what the system has in memory.
  bytes_read        bigint,
  bytes_written     bigint,
  log_bytes         bigint,
  log_capped        boolean not null default false,
  -- It ran elsewhere: why it waited is not known.
  imported          boolean not null default false,
  -- When a person took the attempt's seats back, who did it and why.
  seats_back_at     timestamptz,
  seats_back_by     text,
  seats_back_reason text,
  open              boolean not null generated always as (state <> 'done') stored
) partition by range (id);
create index attempt_job on attempt (job_id);
create index attempt_open on attempt (runner_id) where open;
create index attempt_runner on attempt (runner_id, id);
-- A job's place in its strand's line at a past time is worked out from the waits of the jobs before it.
create index attempt_strand on attempt (strand_id, id);

-- How much of an attempt's log is durable, and how much of that is sealed into objects.
create table attempt_log (
  attempt_id uuid primary key,
  length     bigint not null default 0,
  lines      bigint not null default 0,
  sealed     bigint not null default 0,
  complete   boolean not null default false,
  capped     boolean not null default false,
  -- A removed log stays known, so that a reader gets a clear answer.
  removed    boolean not null default false
) with (fillfactor = 50);
create index attempt_log_kept on attempt_log (attempt_id) where not removed;

-- The tail that is not sealed yet.
create table log_chunk (
  attempt_id uuid not null,
  start      bigint not null,
  first_line bigint not null,
  bytes      bytea not null,
  primary key (attempt_id, start)
);
-- Compressing bytes that are about to be sealed took most of the time of storing them.
alter table log_chunk alter column bytes set storage external;

-- The manifest: the sealed objects in order. first_line counts the line ends before the object.
create table log_object (
  attempt_id uuid not null,
  start      bigint not null,
  length     bigint not null,
  first_line bigint not null,
  lines      bigint not null,
  sha256     bytea not null,
  primary key (attempt_id, start)
);
