-- Shares, limits, reach, seats and bands.

alter table place
  -- Its share against its siblings'.
  add column weight     integer not null default 1 check (weight between 1 and 1000),
  -- The most slots that it may hold at once, with everything below it.
  add column slot_limit integer check (slot_limit >= 0),
  -- How long a job of it waits at most, unless it says otherwise.
  add column give_up_us bigint check (give_up_us > 0);

alter table pool
  -- Who may use it, by path: only these of what lies at or below its owner (all when empty), and these besides.
  add column reach_only text[] not null default '{}',
  add column reach_also text[] not null default '{}',
  add column paused     boolean not null default false;
alter table pool_policy
  add column reach_only text[] not null default '{}',
  add column reach_also text[] not null default '{}',
  add column paused     boolean not null default false;

create table seat (
  id          uuid primary key,
  name        text not null unique,
  description text not null,
  count       integer not null check (count >= 0),
  created_at  timestamptz not null
);

alter table job
  add column band           text not null default 'normal',
  add column seats          jsonb not null default '{}',
  add column give_up_us     bigint,
  add column give_up_at     timestamptz,
  add column fail_unmatched boolean not null default false;
create index job_give_up on job (give_up_at)
  where state = 'pending' and current_attempt is null and give_up_at is not null;

-- When a person took the attempt's seats back, who did it and why.
alter table attempt
  add column seats_back_at  timestamptz,
  add column seats_back_by  text,
  add column seats_back_why text;
