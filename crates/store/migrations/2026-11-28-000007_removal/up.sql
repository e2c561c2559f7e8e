-- A pool that was removed stays for its history; its name is free again.
alter table pool
  drop constraint pool_name_key,
  add column removed_at timestamptz;
create unique index pool_name on pool (name) where removed_at is null;
