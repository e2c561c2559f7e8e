-- What a machine says of itself, and what people set over it. The runner's labels, facts and slots are what comes of
-- both: what dispatch goes by, and what runner_facts keeps the versions of.
alter table runner
  add column description      text not null default '',
  add column told             jsonb not null default '{"labels": [], "facts": {}, "slots": 0}',
  add column settings         jsonb not null default '{}',
  -- Counts up with every change of the settings, so that the machine is told of each.
  add column settings_version integer not null default 0;
update runner set told = jsonb_build_object('labels', labels, 'facts', facts, 'slots', slots);

-- A ticket may be for several machines, each of which gets its record when it joins; one for a single machine has its
-- record from the start, awaited.
alter table ticket
  alter column runner_id drop not null,
  add column uses         integer not null default 1 check (uses >= 1),
  add column used         integer not null default 0,
  -- What a machine that joins with it may be called: a name, with * for anything.
  add column name_pattern text not null default '*',
  -- Labels that machines get with it, as the word of who made it.
  add column labels       text[] not null default '{}',
  add column revoked_at   timestamptz,
  add column revoked_by   text;
update ticket set used = 1 where used_at is not null;
