-- What makes machines, the machines, and what was decided about them.

create table supplier (
  id           uuid primary key,
  name         text not null unique,
  kind         text not null,
  settings     jsonb not null default '{}',
  -- Locked with the installation's key; never shown.
  secrets      jsonb not null default '{}',
  -- What people say in place of what it says itself.
  quota        integer check (quota >= 0),
  boot_limit_us bigint check (boot_limit_us > 0),
  -- What it said it can do, when it was last asked.
  offer        jsonb,
  offered_at   timestamptz,
  -- What is wrong with it, since when, and when it is tried again.
  trouble       text,
  trouble_since timestamptz,
  retry_at      timestamptz,
  created_at   timestamptz not null,
  created_by   text not null
);

alter table pool        add column supply jsonb;
alter table pool_policy add column supply jsonb;

-- How a pool that makes machines stands: what it learnt of them, and what was last decided.
create table pool_standing (
  pool_id uuid primary key references pool,
  -- Labels and facts of the last machine that joined.
  learnt  jsonb,
  -- What an hour of its machines costs, in millionths, as the supplier says.
  price   bigint not null default 0,
  coming  integer not null default 0,
  short   text,
  full_at integer,
  numbers jsonb not null default '{}'
) with (fillfactor = 70);

alter table runner add column single_use boolean not null default false;

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
  state_why      text not null,
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
  -- The end of what it printed while it came up, kept when it was given up.
  console        text not null default '',
  there          boolean not null generated always as (state not in ('gone', 'failed')) stored
);
create index machine_pool on machine (pool_id, number);
create index machine_supplier on machine (supplier_id);
create index machine_runner on machine (runner_id);
create index machine_there on machine (pool_id) where there;
create index machine_ended on machine (ended_at);

create sequence decision_id as bigint;
create table decision (
  id             bigint not null default nextval('decision_id'),
  at             timestamptz not null,
  pool_id        uuid not null,
  policy_version integer not null,
  verb           text not null,
  machines       integer not null,
  said           text not null,
  numbers        jsonb not null,
  primary key (id, at)
) partition by range (at);
create index decision_pool on decision (pool_id, id);

create table pool_level (
  at        timestamptz not null,
  pool_id   uuid not null,
  waiting   integer not null,
  executing integer not null,
  idle      integer not null,
  coming    integer not null,
  primary key (pool_id, at)
) partition by range (at);

-- A machine that a supplier's check makes: it enrols with a ticket of its own, and is told to go.
create table trial (
  id          uuid primary key,
  supplier_id uuid not null references supplier,
  secret_hash bytea not null unique,
  made_at     timestamptz not null,
  joined_at   timestamptz,
  peer        text,
  facts       jsonb
);
create index trial_supplier on trial (supplier_id);

-- Their partitions are made with the others'.
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), '''strand_reason'',', '''strand_reason'', ''decision'', ''pool_level'',');
end $$;
