-- Pools, runners, and the suppliers and machines behind them.

create table pool (
  id             uuid primary key,
  name           text not null,
  description    text not null,
  owner_id       uuid not null references place,
  labels         text[] not null,
  open           boolean not null,
  policy_version integer not null,
  created_at     timestamptz not null,
  -- Who may use it, by path: only these of what lies at or below its owner (all when empty), and these besides.
  narrow_to     text[] not null default '{}',
  widen_to     text[] not null default '{}',
  -- Whether it takes untrusted jobs as well.
  takes_untrusted boolean not null default false,
  -- Whether a project's first use has to be approved, and the projects, by path, whose use was.
  asks_approval  boolean not null default false,
  approved       text[] not null default '{}',
  paused         boolean not null default false,
  -- What a machine has to be to join the pool, in the requirement language.
  needs          text not null default '',
  -- How its machines are made; null when people bring them.
  supply         jsonb,
  -- What its jobs may reach and use on their machine.
  jobs           jsonb not null default '{}',
  -- A removed pool stays for its history; its name is free again.
  removed_at     timestamptz
);
create index pool_owner on pool (owner_id);
create unique index pool_name on pool (name) where removed_at is null;

-- Secrets of the jobs of a place and below, or of the jobs that run in a pool. The value is encrypted with the key file, or is
-- fetched from an outside store by its reference when an attempt starts.
create table secret (
  id        uuid primary key,
  place_id  uuid references place on delete cascade,
  pool_id   uuid references pool on delete cascade,
  name      text not null,
  -- Each time that it is set it has the next one.
  version   integer not null,
  locked    text,
  reference text,
  -- The pools, by name, that may receive it; any where there is none.
  pools     text[] not null,
  set_at    timestamptz not null,
  set_by    text not null,
  used_at   timestamptz,
  unique (place_id, name),
  unique (pool_id, name),
  check (num_nonnulls(place_id, pool_id) = 1),
  check (num_nonnulls(locked, reference) = 1)
);

-- Environment variables of the jobs of a place and below, or of the jobs that run in a pool, in the open.
create table variable (
  place_id uuid references place on delete cascade,
  pool_id  uuid references pool on delete cascade,
  name     text not null,
  value    text not null,
  set_at   timestamptz not null,
  set_by   text not null,
  unique (place_id, name),
  unique (pool_id, name),
  check (num_nonnulls(place_id, pool_id) = 1)
);

-- The keys that sign identity tokens of jobs. The private part is encrypted with the key file.
create table signing_key (
  -- Its thumbprint (RFC 7638).
  id         text primary key,
  algorithm  text not null,
  locked     text not null,
  -- The public part, as a JSON Web Key (RFC 7517).
  public     jsonb not null,
  made_at    timestamptz not null,
  signs_from timestamptz not null
);

-- The versions of a pool's policy: an attempt points to the policy and the facts of its time.
create table pool_policy (
  pool_id    uuid not null references pool,
  version    integer not null,
  owner_id   uuid not null,
  labels     text[] not null,
  open       boolean not null,
  since      timestamptz not null,
  set_by     text not null,
  narrow_to text[] not null default '{}',
  widen_to text[] not null default '{}',
  takes_untrusted boolean not null default false,
  asks_approval boolean not null default false,
  approved text[] not null default '{}',
  paused     boolean not null default false,
  supply     jsonb,
  jobs       jsonb not null default '{}',
  primary key (pool_id, version)
);

create sequence runner_number as bigint;
create table runner (
  id                   uuid primary key,
  number               bigint not null unique default nextval('runner_number'),
  pool_id              uuid not null references pool,
  name                 text not null,
  description          text not null default '',
  state                text not null,
  state_since          timestamptz not null,
  state_reason         text not null,
  desired_state        text not null default 'work',
  -- The person who set it; null when its machine or the service did. A machine cannot undo what a person has set.
  desired_by           text,
  -- In effect: what dispatch goes by, and what runner_facts keeps the versions of. They follow from what the machine
  -- reports and what people set over it.
  slots                integer not null check (slots >= 0),
  labels               text[] not null,
  facts                jsonb not null,
  facts_version        integer not null,
  reported             jsonb not null default '{"labels": [], "facts": {}, "slots": 0}',
  settings             jsonb not null default '{}',
  -- Counts up with every change of the settings, so that the machine is sent each.
  settings_version     integer not null default 0,
  program              text not null,
  single_use           boolean not null default false,
  -- How many jobs it could have at once now, where that is fewer than its slots: runners of one host may share a limit.
  room                 integer,
  credential_hash      bytea unique,
  -- A credential is replaced from time to time: the next one is accepted as well until it is first used.
  next_credential_hash bytea unique,
  credential_since     timestamptz not null default 'epoch',
  created_at           timestamptz not null
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
create table runner_presence (
  runner_id uuid primary key references runner,
  session   uuid not null,
  seen_at   timestamptz not null,
  -- When its connection was closed with no poll after it.
  closed_at timestamptz,
  -- The address that it was last heard of from.
  peer      text
) with (fillfactor = 50);

-- A ticket may be for several machines, each of which gets its record when it joins; a ticket for a single machine has
-- its record from the start, awaited.
create sequence ticket_number as bigint;
create table ticket (
  id           uuid primary key,
  number       bigint not null unique default nextval('ticket_number'),
  pool_id      uuid not null references pool,
  runner_id    uuid references runner,
  secret_hash  bytea not null unique,
  created_at   timestamptz not null,
  created_by   text not null,
  expires_at   timestamptz not null,
  used_at      timestamptz,
  uses         integer not null default 1 check (uses >= 1),
  used         integer not null default 0,
  -- What a machine that joins with it may be called: a name, with * for anything.
  name_pattern text not null default '*',
  -- Labels that machines get with it.
  labels       text[] not null default '{}',
  revoked_at   timestamptz,
  revoked_by   text
);
create index ticket_pool on ticket (pool_id);
create index ticket_runner on ticket (runner_id);

-- Periods in which a pool, or one runner, takes no new jobs.
create sequence maintenance_number as bigint;
create table maintenance (
  id         uuid primary key,
  number     bigint not null unique default nextval('maintenance_number'),
  pool_id    uuid references pool,
  runner_id  uuid references runner,
  from_at    timestamptz not null,
  until_at   timestamptz not null check (until_at > from_at),
  reason     text not null,
  created_at timestamptz not null,
  created_by text not null,
  -- Ended early, or cancelled.
  ended_at   timestamptz,
  ended_by   text,
  check ((pool_id is null) <> (runner_id is null))
);
create index maintenance_pool on maintenance (pool_id);
create index maintenance_runner on maintenance (runner_id);
create index maintenance_until on maintenance (until_at) where ended_at is null;

create table supplier (
  id            uuid primary key,
  name          text not null unique,
  kind          text not null,
  settings      jsonb not null default '{}',
  -- Encrypted with the installation's key; never shown.
  secrets       jsonb not null default '{}',
  -- What people set in place of what the supplier reports.
  quota         integer check (quota >= 0),
  boot_limit_us bigint check (boot_limit_us > 0),
  -- What it reported that it can do, when it was last asked.
  offer         jsonb,
  offered_at    timestamptz,
  -- Its last failure, since when it fails, and when it is tried again.
  failure       text,
  failing_since timestamptz,
  retry_at      timestamptz,
  created_at    timestamptz not null,
  created_by    text not null
);

-- How a pool that makes machines stands: what was discovered of them, and what was last decided.
create table pool_standing (
  pool_id    uuid primary key references pool,
  -- Labels and facts of the last machine that joined.
  discovered jsonb,
  -- What an hour of its machines costs, in millionths, as the supplier reports.
  price      bigint not null default 0,
  coming     integer not null default 0,
  short      text,
  full_at    integer,
  numbers    jsonb not null default '{}'
) with (fillfactor = 70);

create sequence machine_number as bigint;
create table machine (
  id             uuid primary key,
  number         bigint not null unique,
  name           text not null,
  pool_id        uuid not null references pool,
  supplier_id    uuid not null references supplier,
  runner_id      uuid not null references runner,
  policy_version integer not null,
  state          text not null,
  state_since    timestamptz not null,
  state_reason   text not null,
  price          bigint not null,
  single_use     boolean not null,
  ordered_at     timestamptz not null,
  ordered_by     text not null,
  accepted_at    timestamptz,
  joined_at      timestamptz,
  released_at    timestamptz,
  ended_at       timestamptz,
  -- Whether it never came to be what it was ordered for.
  failed         boolean not null default false,
  reference      text not null default '',
  zone           text not null default '',
  -- The end of what it printed while it booted, kept when it was given up.
  console        text not null default '',
  -- Whether its cost is among the sums.
  counted        boolean not null default false,
  active         boolean not null generated always as (state not in ('gone', 'failed')) stored
);
create index machine_pool on machine (pool_id, number);
create index machine_supplier on machine (supplier_id);
create index machine_runner on machine (runner_id);
create index machine_active on machine (pool_id) where active;
create index machine_ended on machine (ended_at);
create index machine_uncounted on machine (id) where not counted;

-- What was decided about a pool's machines.
create sequence decision_id as bigint;
create table decision (
  id             bigint not null default nextval('decision_id'),
  at             timestamptz not null,
  pool_id        uuid not null,
  policy_version integer not null,
  verb           text not null,
  machines       integer not null,
  message        text not null,
  numbers        jsonb not null,
  primary key (id, at)
) partition by range (at);
create index decision_pool on decision (pool_id, id);

-- A machine that a supplier's check makes: it enrols with a ticket of its own and is then told to stop.
create table trial (
  id          uuid primary key,
  supplier_id uuid not null references supplier,
  secret_hash bytea not null unique,
  created_at  timestamptz not null,
  joined_at   timestamptz,
  peer        text,
  facts       jsonb
);
create index trial_supplier on trial (supplier_id);
