-- What is added up of waits, work, machines and money.

-- What sums are kept by: an id or a word, each once.
create table rollup_key (
  id   bigint generated always as identity primary key,
  kind smallint not null,
  text text not null
);
create unique index rollup_key_text on rollup_key (kind, md5(text));

-- Sums over a stretch of time (core: measure/cell.rs says what the bytes are).
create table rollup (
  grain smallint not null,
  kind  smallint not null,
  key   bigint not null,
  at    timestamptz not null,
  cell  bytea not null,
  primary key (grain, kind, key, at)
) partition by range (at);
create index rollup_at on rollup (grain, kind, at);

-- One attempt of a job that is over, or a wait that led to none: what was added to the sums, once. The id is the
-- attempt's, or the job's where there was none.
create table stint (
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
  -- What it waited for, in microseconds, in the order of the core's list of reasons.
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
create index stint_ready on stint (ready_at);
create index stint_waited on stint (waited_us);
create index stint_ended on stint (ended_at);

-- Stretches in which a runner offered slots. One without an end goes on.
create table runner_offer (
  runner_id uuid not null,
  pool_id   uuid not null,
  since     timestamptz not null,
  until     timestamptz,
  slots     integer not null,
  primary key (runner_id, since)
);
create unique index runner_offer_open on runner_offer (runner_id) where until is null;
create index runner_offer_until on runner_offer (until);

-- Whether what a machine cost is among the sums.
alter table machine add column counted boolean not null default false;
create index machine_uncounted on machine (id) where not counted;

-- How far the change feed was read for the sums.
create table measured (
  one  boolean primary key default true check (one),
  txid bigint not null,
  id   bigint not null,
  at   timestamptz not null
);
-- What there is already is found by rebuild-rollups; from now on the feed says what is over.
insert into measured values (true, pg_snapshot_xmin(pg_current_snapshot())::text::bigint - 1, 9223372036854775807, 'epoch');
insert into runner_offer (runner_id, pool_id, since, slots)
  select id, pool_id, state_since, slots from runner where state in ('available', 'busy') and slots > 0;

-- Their partitions are made with the others'.
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), '''strand_reason'',', '''strand_reason'', ''rollup'', ''stint'',');
end $$;
