-- How long what is kept.

-- Sums of stretches before this cannot be worked out anew: not everything that they are made of is on record any more.
alter table measured add column whole_since timestamptz not null default 'epoch';

-- Counts who added something: what was got ready beforehand is written only if nobody did meanwhile.
alter table measured add column turn bigint not null default 0;

-- Drops the oldest partition of a table that ended before a moment, and says which; nothing where there is none.
create function drop_partition(parent text, before timestamptz) returns text language plpgsql as $$
declare
  name   text;
  latest timestamptz;
begin
  select c.relname into name
  from pg_inherits i join pg_class c on c.oid = i.inhrelid
  where i.inhparent = parent::regclass and c.relname ~ ('^' || parent || '_\d{4}_\d{2}$')
    and to_date(right(c.relname, 7), 'YYYY_MM') + interval '1 month' <= before at time zone 'UTC'
  order by c.relname limit 1;
  if name is not null and parent = 'job' then
    execute format('select max(finished_at) from %I', name) into latest;
    update measured set whole_since = greatest(whole_since, latest);
  end if;
  if name is not null then
    execute format('drop table %I', name);
  end if;
  return name;
end $$;

-- A log that was taken away stays known, so that whoever asks for it is told.
alter table attempt_log add column removed boolean not null default false;
create index attempt_log_there on attempt_log (attempt_id) where not removed;
