-- What is promised of waits, what people are told of, and who else is told.

-- A promise about a pool, a place, or, where both are null, everything.
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
  id         uuid primary key,
  number     bigint generated always as identity unique,
  kind       text not null,
  subject    text not null,
  state      text not null,
  said       text not null,
  about      jsonb not null,
  since      timestamptz not null,
  raised_at  timestamptz,
  absent_at  timestamptz,
  ended_at   timestamptz,
  -- Who has said that they look at it.
  seen_at    timestamptz,
  seen_by    text
);
create unique index alert_open on alert (kind, subject) where ended_at is null;
create index alert_ended on alert (ended_at);

-- Where events are sent.
create table listener (
  id            uuid primary key,
  name          text not null unique,
  url           text not null,
  kinds         text[] not null,
  -- Locked. The one before is signed with too until it ends.
  secret        text not null,
  former        text,
  former_until  timestamptz,
  paused        boolean not null default false,
  created_at    timestamptz not null,
  created_by    text not null,
  -- How far the change feed was sent.
  txid          bigint not null,
  sent_id       bigint not null,
  sent          bigint not null default 0,
  sent_at       timestamptz,
  tries         integer not null default 0,
  failing_since timestamptz,
  retry_at      timestamptz,
  trouble       text
);

-- What listeners are sent is found without reading everything else.
create index outbox_told on outbox (txid, id) where kind in ('alert.raised', 'alert.ended');
