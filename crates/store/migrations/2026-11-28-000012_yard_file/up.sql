-- The yard file that was applied last: what it speaks of is marked, so that nobody changes it by hand unawares.
create table yard_file (
  one        boolean primary key default true check (one),
  name       text not null,
  -- By kind and name: {"pool": ["quay", ...], ...}.
  things     jsonb not null,
  applied_at timestamptz not null,
  applied_by text not null
);
