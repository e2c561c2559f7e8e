-- State rows are the truth. Every change of one writes an outbox row in the same transaction.

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

-- The change feed, by number. A transaction draws a number in the insert that ends it, from a sequence without a cache: so
-- nothing that is read is passed over (see outbox::position).
create sequence outbox_id as bigint cache 1;
create table outbox (
  id      bigint not null default nextval('outbox_id'),
  at      timestamptz not null,
  kind    text not null,
  subject uuid not null,
  body    jsonb not null
) partition by range (at);
create index outbox_order on outbox (id);
create index outbox_subject on outbox (subject);
-- What listeners are sent is found without reading everything else.
create index outbox_alerts on outbox (id) where kind in ('alert.raised', 'alert.ended');

-- Teams and projects, and the root above them.
create table place (
  id         uuid primary key,
  kind       text not null check (kind in ('root', 'team', 'project')),
  name       text not null,
  path       text not null unique,
  parent_id  uuid references place,
  created_at timestamptz not null,
  -- Its share against its siblings'.
  weight     integer not null default 1 check (weight between 1 and 1000),
  -- The most slots that it may hold at once, with everything below it.
  slot_limit integer check (slot_limit >= 0),
  -- How long a job of it waits at most, unless the job has its own limit.
  give_up_us bigint check (give_up_us > 0),
  -- The only audiences for which its jobs may get identity tokens; any where there is none.
  audiences  text[] not null default '{}'
);
create index place_parent on place (parent_id);
-- Whether a path is one of some places, or lies below one of them.
create function is_below_any(path text, places text[]) returns boolean language sql immutable as $$
  select exists (select from unnest(places) as place where place in ('', path) or starts_with(path, place || '/'))
$$;
insert into place (id, kind, name, path, created_at) values (gen_random_uuid(), 'root', '', '', clock_timestamp());

-- People's accounts.
create table person (
  id                uuid primary key,
  name              text not null unique check (name = lower(name)),
  full_name         text not null,
  -- argon2id, as a PHC string; none until the person has set one.
  password_hash     text,
  -- The secret of the second factor, encrypted; it counts once it is confirmed with a code.
  totp_secret       text,
  totp_confirmed_at timestamptz,
  -- The time step of the last code that was accepted: each is accepted once.
  totp_step         bigint not null default 0,
  created_at        timestamptz not null,
  created_by        text not null,
  signed_in_at      timestamptz,
  disabled_at       timestamptz,
  disabled_by       text,
  -- Who the person is at the OpenID provider: its issuer and its name for the person, separated by a space.
  subject           text unique,
  -- The person's groups there, as of the last sign-in.
  groups            text[] not null default '{}'
);
-- Roles of the people in a group of the OpenID provider.
create table group_grant (
  name       text not null,
  place_id   uuid not null references place on delete cascade,
  role       text not null check (role in ('viewer', 'submitter', 'operator', 'admin')),
  granted_at timestamptz not null,
  granted_by text not null,
  primary key (name, place_id)
);
create index group_grant_place on group_grant (place_id);
-- Codes that stand in for the second factor, each once.
create table recovery_code (
  person_id uuid not null references person,
  code_hash bytea not null,
  primary key (person_id, code_hash)
);
-- Roles of people at places; each is valid there and below.
create table person_grant (
  person_id  uuid not null references person,
  place_id   uuid not null references place on delete cascade,
  role       text not null check (role in ('viewer', 'submitter', 'operator', 'admin')),
  granted_at timestamptz not null,
  granted_by text not null,
  primary key (person_id, place_id)
);
create index person_grant_place on person_grant (place_id);
-- Links with which a person sets a password, each once.
create table sign_in_link (
  secret_hash bytea primary key,
  person_id   uuid not null references person,
  created_at  timestamptz not null,
  expires_at  timestamptz not null,
  -- Whether it removes the second factor, too.
  resets      boolean not null
);
create index sign_in_link_person on sign_in_link (person_id);
-- How sign-ins with a password went, by the name that was typed, whether there is such a person or not, and by address.
create table sign_in_address (
  name         text not null,
  network      text not null,
  succeeded_at timestamptz,
  -- Failures since the last success.
  failures     integer not null default 0,
  failed_at    timestamptz,
  primary key (name, network)
);

create table token (
  id             uuid primary key,
  name           text not null,
  secret_hash    bytea not null unique,
  -- The secret before the last rotation, and until when it is valid.
  previous_hash  bytea unique,
  previous_until timestamptz,
  role           text not null check (role in ('viewer', 'submitter', 'operator', 'admin')),
  -- The role is valid there and below.
  place_id       uuid not null references place,
  -- What it is limited to, beside its role.
  purpose        text check (purpose in ('runner-tickets', 'submit', 'read', 'metrics')),
  created_at     timestamptz not null,
  created_by     text not null,
  -- Since when its present secret is valid.
  renewed_at     timestamptz not null,
  expires_at     timestamptz,
  revoked_at     timestamptz,
  revoked_by     text,
  last_used_at   timestamptz,
  last_used_from text,
  -- The owner of a person's own token, whose roles limit it.
  owner_id       uuid references person
);
-- The name of a revoked token is free again.
create unique index token_name on token (name) where revoked_at is null;
create index token_place on token (place_id);
create index token_owner on token (owner_id);
-- In the order in which they are listed.
create index token_listed on token ((revoked_at is not null), name, id);

-- Sign-ins at the console, with a token or as a person.
create table sign_in (
  id             uuid primary key,
  secret_hash    bytea not null unique,
  token_id       uuid references token,
  person_id      uuid references person,
  created_at     timestamptz not null,
  expires_at     timestamptz not null,
  address        text,
  user_agent     text not null,
  last_used_at   timestamptz not null,
  last_used_from text,
  check (num_nonnulls(token_id, person_id) = 1)
);
create index sign_in_token on sign_in (token_id);
create index sign_in_person on sign_in (person_id);

create sequence audit_id as bigint;
create table audit (
  id      bigint not null default nextval('audit_id'),
  at      timestamptz not null,
  who     text not null,
  who_kind text not null check (who_kind in ('person', 'token', 'runner', 'service')),
  -- From where, and by which request.
  address text,
  request text,
  -- The path of the place where it was allowed; empty for the root.
  place   text not null,
  what    text not null,
  subject text not null,
  detail  jsonb not null,
  primary key (id, at)
) partition by range (at);
create index audit_who on audit (who, at);
-- Seals of the audit log, each over a range of its numbers and the seal before.
create table audit_seal (
  last_id   bigint primary key,
  first_id  bigint not null unique,
  -- Ranges of numbers that no entry has.
  missing   jsonb not null,
  entries   integer not null,
  earliest  timestamptz not null,
  latest    timestamptz not null,
  hash      bytea not null,
  signature bytea not null,
  sealed_at timestamptz not null
);
-- Who changed a setting last.
create index audit_subject on audit (subject, what, at);

create table idempotency (
  -- The token or the person that writes.
  writer_id uuid not null,
  key       text not null,
  body_hash bytea not null,
  -- The id of what the write makes, so that a repeated write makes nothing twice.
  subject   uuid not null,
  -- Null while it is in progress. An answer with a secret is not kept.
  status    integer,
  answer    bytea,
  at        timestamptz not null,
  primary key (writer_id, key)
);
create index idempotency_at on idempotency (at);

-- The yard file that was applied last. The things that it describes are marked as managed.
create table yard_file (
  one        boolean primary key default true check (one),
  name       text not null,
  -- By kind and name: {"pool": ["staithe", ...], ...}.
  things     jsonb not null,
  applied_at timestamptz not null,
  applied_by text not null
);

-- What dispatch and capacity decide from, in versions: each holds from `since` on, until the next version of the same
-- thing. A null value marks a removed thing. Pool policies, runner facts and maintenance have versions of their own
-- (pool_policy, runner_facts, maintenance).
create table decision_input (
  kind  text not null check (kind in ('place', 'seat', 'pool', 'supplier', 'share-policy')),
  id    uuid not null,
  since timestamptz not null,
  value jsonb,
  primary key (kind, id, since)
);

-- What has made the leader's state of dispatch inconsistent: {"kind": "job", "id": ...}. An entity that does so twice
-- within an hour is left out of dispatch, so that everything else goes on.
create table set_aside (
  entity   jsonb primary key,
  problem  text not null,
  times    integer not null check (times > 0),
  first_at timestamptz not null,
  last_at  timestamptz not null
);
