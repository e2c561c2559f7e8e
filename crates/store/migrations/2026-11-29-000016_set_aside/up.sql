-- What has made the leader's state of dispatch inconsistent: {"kind": "job", "id": ...}. What does so twice within an hour
-- is left out of dispatch, so that everything else goes on.
create table set_aside (
  entity   jsonb primary key,
  problem  text not null,
  times    integer not null check (times > 0),
  first_at timestamptz not null,
  last_at  timestamptz not null
);
