-- Samples, sums, targets, alerts, and who is sent them.

-- How many jobs waited and ran, and how many slots were idle or coming, in the whole yard.
create table queue_sample (
  at        timestamptz primary key,
  waiting   integer not null,
  executing integer not null,
  idle      integer not null,
  coming    integer not null
) partition by range (at);

-- The same of each pool.
create table pool_sample (
  at        timestamptz not null,
  pool_id   uuid not null,
  waiting   integer not null,
  executing integer not null,
  idle      integer not null,
  coming    integer not null,
  primary key (pool_id, at)
) partition by range (at);

-- What sums are kept by. A column that a kind has no use for holds the nil UUID or the empty text.
create table rollup_key (
  id         bigint generated always as identity primary key,
  kind       smallint not null,
  -- A pool, a runner or a supplier.
  owner_id   uuid not null,
  project_id uuid not null,
  text       text not null
);
create unique index rollup_key_parts on rollup_key (kind, owner_id, project_id, md5(text));
create index rollup_key_project on rollup_key (kind, project_id);

-- Sums over a stretch of time (core: measure/cell.rs documents the bytes).
create table rollup (
  resolution smallint not null,
  kind       smallint not null,
  key        bigint not null,
  at         timestamptz not null,
  cell       bytea not null,
  primary key (resolution, kind, key, at)
) partition by range (at);
create index rollup_at on rollup (resolution, kind, at);

-- One finished attempt of a job, or a wait that led to none, as it was added to the sums. The id is the attempt's, or the
-- job's where there was no attempt.
create table work_span (
  id           uuid not null,
  job_id       uuid not null,
  job_number   bigint not null,
  project_id   uuid not null,
  pool_id      uuid,
  runner_id    uuid,
  requirement  bigint not null,
  title        bigint not null,
  ready_at     timestamptz not null,
  waited_us    bigint not null,
  -- The wait by reason, in microseconds, in the order of the core's list of reasons.
  reasons      bigint[] not null,
  assigned_at  timestamptz,
  started_at   timestamptz,
  exited_at    timestamptz,
  ended_at     timestamptz not null,
  result       text,
  lost         boolean not null,
  processor_us bigint not null,
  peak_memory  bigint not null,
  primary key (id, ready_at)
) partition by range (ready_at);
create index work_span_ready on work_span (ready_at);
create index work_span_waited on work_span (waited_us);
create index work_span_ended on work_span (ended_at);

-- Periods in which a runner offered slots; the last one of a connected runner has no end.
create table offered_span (
  runner_id uuid not null,
  pool_id   uuid not null,
  since     timestamptz not null,
  until     timestamptz,
  slots     integer not null,
  primary key (runner_id, since)
);
create unique index offered_span_open on offered_span (runner_id) where until is null;
create index offered_span_until on offered_span (until);

-- How far the change feed was read for the sums.
create table measure_cursor (
  one             boolean primary key default true check (one),
  id              bigint not null,
  at              timestamptz not null,
  -- Sums of stretches before this cannot be computed again: part of what they are made of is no longer on record.
  complete_since  timestamptz not null default 'epoch',
  -- Counts the writers: sums that were prepared are written only if no other writer intervened.
  revision        bigint not null default 0,
  -- Old days are merged into spans of ten days; up to here that is done.
  compacted_until timestamptz not null default 'epoch'
);
insert into measure_cursor (id, at) values (0, 'epoch');

-- How far the change feed was sent as traces; no row before the first.
create table trace_cursor (
  one  boolean primary key default true check (one),
  id   bigint not null
);

-- A promise about a pool, a place, or, where both are null, the whole yard.
create table target (
  id         uuid primary key,
  name       text not null unique,
  pool_id    uuid references pool (id) on delete cascade,
  place_id   uuid references place (id) on delete cascade,
  share      smallint not null check (share between 500 and 999),
  within_us  bigint not null check (within_us > 0),
  days       integer not null check (days between 1 and 90),
  created_at timestamptz not null,
  created_by text not null,
  check (pool_id is null or place_id is null)
);
create index target_pool on target (pool_id);
create index target_place on target (place_id);

create table alert (
  id              uuid primary key,
  number          bigint generated always as identity unique,
  kind            text not null,
  subject         text not null,
  state           text not null,
  message         text not null,
  about           jsonb not null,
  since           timestamptz not null,
  raised_at       timestamptz,
  absent_at       timestamptz,
  ended_at        timestamptz,
  acknowledged_at timestamptz,
  acknowledged_by text
);
create unique index alert_open on alert (kind, subject) where ended_at is null;
create index alert_ended on alert (ended_at);

-- From when on an alert is raised, where it is not raised at once; no row before the first change.
create table alert_thresholds (
  one        boolean primary key default true check (one),
  thresholds jsonb not null
);

-- Where events are sent.
create table listener (
  id              uuid primary key,
  name            text not null unique,
  url             text not null,
  kinds           text[] not null,
  -- Encrypted. Events are signed with the previous secret as well until it ends.
  secret          text not null,
  previous_secret text,
  previous_until  timestamptz,
  paused          boolean not null default false,
  created_at      timestamptz not null,
  created_by      text not null,
  -- How far the change feed was sent.
  sent_id         bigint not null,
  sent            bigint not null default 0,
  sent_at         timestamptz,
  tries           integer not null default 0,
  failure         text,
  failing_since   timestamptz,
  retry_at        timestamptz
);
