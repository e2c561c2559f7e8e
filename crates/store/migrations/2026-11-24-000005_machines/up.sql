-- A runner's credential is replaced from time to time: the next one is worth as much as the present one until it is used.
alter table runner
  add column next_credential_hash bytea unique,
  add column credential_since     timestamptz,
  -- How many jobs it could have at once just now, where that is fewer than its slots: runners of one host may share a limit.
  add column room                 integer;
update runner set credential_since = created_at;
alter table runner
  alter column credential_since set not null,
  alter column credential_since set default 'epoch';

-- From where a runner was last heard of.
alter table runner_seen add column peer text;

-- Bytes on their way into an object are not worth compressing: that took most of the time of taking them in.
alter table log_chunk alter column bytes set storage external;

-- What a runner did lately is read per runner.
create index attempt_runner on attempt (runner_id, id);

-- What a machine has to be to join the pool, in the requirement language.
alter table pool add column needs text not null default '';

-- Stretches of time in which a pool, or one runner, takes nothing new.
create sequence maintenance_number as bigint;
create table maintenance (
  id         uuid primary key,
  number     bigint not null unique default nextval('maintenance_number'),
  pool_id    uuid references pool,
  runner_id  uuid references runner,
  from_at    timestamptz not null,
  until_at   timestamptz not null check (until_at > from_at),
  why        text not null,
  created_at timestamptz not null,
  created_by text not null,
  -- Ended early, or called off.
  ended_at   timestamptz,
  ended_by   text,
  check ((pool_id is null) <> (runner_id is null))
);
create index maintenance_pool on maintenance (pool_id);
create index maintenance_runner on maintenance (runner_id);
create index maintenance_until on maintenance (until_at) where ended_at is null;
