-- State rows are the truth. Every change of one writes an outbox row in the same transaction.
-- History (runs, jobs, attempts, outbox, reasons, levels, audit) is partitioned by time: by the time in a version 7
-- UUID where the id is the key. No foreign key points into it. Partitions are made by the service (store: partition.rs).

create table installation (
  one        boolean primary key default true check (one),
  id         uuid not null,
  name       text not null,
  -- The id of the key with which this installation encrypts; a start without that key is refused.
  key_id     text not null,
  -- What the object store must hold under this name, so that a folder that is not shared is noticed.
  log_store  uuid not null,
  created_at timestamptz not null
);

-- Who leads. The epoch is the fence: a batch takes this row FOR SHARE and compares it.
create table leadership (
  one        boolean primary key default true check (one),
  holder     uuid,
  address    text not null default '',
  epoch      bigint not null default 0,
  renewed_at timestamptz not null default 'epoch',
  expires_at timestamptz not null default 'epoch'
);
insert into leadership default values;

-- The change feed, read in commit-safe order: rows whose transaction is below the snapshot's xmin, by (txid, id).
create sequence outbox_id as bigint;
create table outbox (
  id      bigint not null default nextval('outbox_id'),
  txid    bigint not null default (pg_current_xact_id()::text::bigint),
  at      timestamptz not null,
  kind    text not null,
  subject uuid not null,
  body    jsonb not null,
  primary key (id, at)
) partition by range (at);
create index outbox_order on outbox (txid, id);
create index outbox_subject on outbox (subject);

create table place (
  id         uuid primary key,
  kind       text not null check (kind in ('root', 'team', 'project')),
  name       text not null,
  path       text not null unique,
  parent_id  uuid references place,
  created_at timestamptz not null
);
create index place_parent on place (parent_id);
insert into place values (gen_random_uuid(), 'root', '', '', null, clock_timestamp());

create table token (
  id           uuid primary key,
  name         text not null,
  secret_hash  bytea not null unique,
  role         text not null check (role in ('viewer', 'submitter', 'operator', 'admin')),
  created_at   timestamptz not null,
  expires_at   timestamptz,
  revoked_at   timestamptz
);

create table sign_in (
  secret_hash bytea primary key,
  token_id    uuid not null references token,
  created_at  timestamptz not null,
  expires_at  timestamptz not null
);
create index sign_in_token on sign_in (token_id);

create table pool (
  id             uuid primary key,
  name           text not null unique,
  description    text not null,
  owner_id       uuid not null references place,
  labels         text[] not null,
  open           boolean not null,
  policy_version integer not null,
  created_at     timestamptz not null
);
create index pool_owner on pool (owner_id);

-- What held when: an attempt points at the policy and the facts of its time.
create table pool_policy (
  pool_id  uuid not null references pool,
  version  integer not null,
  owner_id uuid not null,
  labels   text[] not null,
  open     boolean not null,
  since    timestamptz not null,
  set_by   text not null,
  primary key (pool_id, version)
);

create sequence runner_number as bigint;
create table runner (
  id              uuid primary key,
  number          bigint not null unique default nextval('runner_number'),
  pool_id         uuid not null references pool,
  name            text not null,
  state           text not null,
  state_since     timestamptz not null,
  state_why       text not null,
  wish            text not null default 'work',
  slots           integer not null check (slots >= 0),
  labels          text[] not null,
  facts           jsonb not null,
  facts_version   integer not null,
  program         text not null,
  credential_hash bytea unique,
  created_at      timestamptz not null
);
create index runner_pool on runner (pool_id);
create unique index runner_name on runner (pool_id, lower(name)) where state <> 'retired';

create table runner_facts (
  runner_id uuid not null references runner,
  version   integer not null,
  facts     jsonb not null,
  labels    text[] not null,
  slots     integer not null,
  program   text not null,
  since     timestamptz not null,
  primary key (runner_id, version)
);

-- When a runner was last heard of: narrow, and written once a second by each replica.
create table runner_seen (
  runner_id uuid primary key references runner,
  session   uuid not null,
  seen_at   timestamptz not null,
  -- When its connection was closed with no poll after it.
  closed_at timestamptz
) with (fillfactor = 50);

create sequence ticket_number as bigint;
create table ticket (
  id          uuid primary key,
  number      bigint not null unique default nextval('ticket_number'),
  pool_id     uuid not null references pool,
  runner_id   uuid not null references runner,
  secret_hash bytea not null unique,
  created_at  timestamptz not null,
  created_by  text not null,
  expires_at  timestamptz not null,
  used_at     timestamptz
);
create index ticket_pool on ticket (pool_id);
create index ticket_runner on ticket (runner_id);

create table strand (
  id         uuid primary key,
  key_hash   bytea not null unique,
  key        jsonb not null,
  project_id uuid not null references place,
  made_at    timestamptz not null
);
create index strand_project on strand (project_id);

-- A strand's reasons as a timeline: one row per change, an empty list when nothing waits any more.
create table strand_reason (
  strand_id uuid not null,
  since     timestamptz not null,
  segments  jsonb not null,
  primary key (strand_id, since)
) partition by range (since);

create sequence run_number as bigint;
create table run (
  id         uuid primary key,
  number     bigint not null default nextval('run_number'),
  project_id uuid not null,
  created_at timestamptz not null,
  created_by text not null
) partition by range (id);
create index run_by_number on run (number);

create sequence job_number as bigint;
create table job (
  id              uuid primary key,
  number          bigint not null default nextval('job_number'),
  run_id          uuid not null,
  project_id      uuid not null,
  strand_id       uuid not null,
  state           text not null,
  result          text,
  said            text,
  exit_code       integer,
  title           text not null,
  requirement     text not null,
  command         jsonb not null,
  variables       jsonb not null,
  time_limit_us   bigint not null,
  tries           integer not null,
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
  cancel_by       text
) partition by range (id);
create index job_by_number on job (number);
create index job_by_project on job (project_id, id);
create index job_open on job (strand_id) where state <> 'done';

create table attempt (
  id               uuid primary key,
  job_id           uuid not null,
  number           integer not null,
  runner_id        uuid not null,
  pool_id          uuid not null,
  strand_id        uuid not null,
  facts_version    integer not null,
  policy_version   integer not null,
  lease            uuid not null,
  -- The life of the runner's process that has it.
  session          uuid,
  state            text not null,
  result           text,
  accepted         boolean not null default false,
  said             text,
  exit_code        integer,
  ready_at         timestamptz not null,
  assigned_at      timestamptz not null,
  acknowledged_at  timestamptz,
  started_at       timestamptz,
  exited_at        timestamptz,
  finished_at      timestamptz,
  processor_us     bigint,
  peak_memory      bigint,
  log_bytes        bigint,
  log_capped       boolean not null default false
) partition by range (id);
create index attempt_job on attempt (job_id);
create index attempt_open on attempt (runner_id) where state <> 'done';

-- How much of an attempt's log is durable, and how much of that is sealed into objects.
create table attempt_log (
  attempt_id uuid primary key,
  length     bigint not null default 0,
  lines      bigint not null default 0,
  sealed     bigint not null default 0,
  complete   boolean not null default false,
  capped     boolean not null default false
) with (fillfactor = 50);

-- The tail that is not sealed yet.
create table log_chunk (
  attempt_id uuid not null,
  start      bigint not null,
  first_line bigint not null,
  bytes      bytea not null,
  primary key (attempt_id, start)
);

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

create table yard_level (
  at        timestamptz primary key,
  waiting   integer not null,
  executing integer not null,
  idle      integer not null,
  coming    integer not null
) partition by range (at);

create sequence audit_id as bigint;
create table audit (
  id      bigint not null default nextval('audit_id'),
  at      timestamptz not null,
  who     text not null,
  what    text not null,
  subject text not null,
  detail  jsonb not null,
  primary key (id, at)
) partition by range (at);

create table idempotency (
  token_id  uuid not null references token,
  key       text not null,
  body_hash bytea not null,
  status    integer,
  answer    bytea,
  at        timestamptz not null,
  primary key (token_id, key)
);
create index idempotency_at on idempotency (at);

-- Makes the monthly partitions (UTC) that cover a stretch of time. Called at start and daily.
create function make_partitions(from_at timestamptz, until_at timestamptz) returns void language plpgsql as $$
declare
  month timestamp := date_trunc('month', from_at at time zone 'UTC');
  next  timestamp;
  name  text;
begin
  perform pg_advisory_xact_lock(x'70656e6f'::bigint);
  while month <= until_at at time zone 'UTC' loop
    next := month + interval '1 month';
    foreach name in array array['run', 'job', 'attempt'] loop
      -- The first 48 bits of a version 7 UUID are milliseconds since 1970.
      execute format('create table if not exists %I partition of %I for values from (%L) to (%L)',
        name || '_' || to_char(month, 'YYYY_MM'), name, first_uuid(month), first_uuid(next));
    end loop;
    foreach name in array array['outbox', 'strand_reason', 'yard_level', 'audit'] loop
      execute format('create table if not exists %I partition of %I for values from (%L) to (%L)',
        name || '_' || to_char(month, 'YYYY_MM'), name, month at time zone 'UTC', next at time zone 'UTC');
    end loop;
    -- Waiting rows change often and end soon: leave room beside them and clean up early.
    execute format('alter table %I set (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02)',
      'job_' || to_char(month, 'YYYY_MM'));
    execute format('alter table %I set (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02)',
      'attempt_' || to_char(month, 'YYYY_MM'));
    month := next;
  end loop;
end $$;

create function first_uuid(month timestamp) returns uuid language sql immutable as $$
  select (lpad(to_hex((extract(epoch from month) * 1000)::bigint), 12, '0') || repeat('0', 20))::uuid
$$;
