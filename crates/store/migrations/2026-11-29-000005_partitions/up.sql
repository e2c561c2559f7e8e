-- History is partitioned by month (UTC): by the time in a version 7 UUID where the id is the key.

create function first_uuid(month timestamp) returns uuid language sql immutable as $$
  select (lpad(to_hex((extract(epoch from month) * 1000)::bigint), 12, '0') || repeat('0', 20))::uuid
$$;

-- Makes the partitions that cover a period. Called at start and daily. Runs with the rights of the tables' owner, as the next one.
create function make_partitions(from_at timestamptz, until_at timestamptz) returns void
  language plpgsql security definer set search_path from current as $$
declare
  month timestamp := date_trunc('month', from_at at time zone 'UTC');
  next  timestamp;
  name  text;
begin
  perform pg_advisory_xact_lock(x'70656e6f'::bigint);
  while month <= until_at at time zone 'UTC' loop
    next := month + interval '1 month';
    foreach name in array array['run', 'job', 'attempt'] loop
      -- The first 48 bits of a version 7 UUID are milliseconds since 1970.
      execute format('create table if not exists %I partition of %I for values from (%L) to (%L)',
        name || '_' || to_char(month, 'YYYY_MM'), name, first_uuid(month), first_uuid(next));
    end loop;
    foreach name in array array['outbox', 'audit', 'decision', 'strand_reason', 'strand_visit', 'queue_sample',
                                'pool_sample', 'rollup', 'work_span'] loop
      execute format('create table if not exists %I partition of %I for values from (%L) to (%L)',
        name || '_' || to_char(month, 'YYYY_MM'), name, month at time zone 'UTC', next at time zone 'UTC');
    end loop;
    -- Waiting rows change often and end soon: leave room beside them and clean up early.
    execute format('alter table %I set (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02)',
      'job_' || to_char(month, 'YYYY_MM'));
    execute format('alter table %I set (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02)',
      'attempt_' || to_char(month, 'YYYY_MM'));
    month := next;
  end loop;
end $$;

-- Drops the oldest partition of a table that ended before a moment, and returns its name; null where there is none.
create function drop_partition(parent text, before timestamptz) returns text
  language plpgsql security definer set search_path from current as $$
declare
  name   text;
  latest timestamptz;
begin
  -- A service whose role does not own the tables cannot empty the audit log, whatever time it says it is.
  if parent = 'audit' and session_user <> current_user then
    before := least(before, clock_timestamp() - interval '90 days');
  end if;
  select c.relname into name
  from pg_inherits i join pg_class c on c.oid = i.inhrelid
  where i.inhparent = parent::regclass and c.relname ~ ('^' || parent || '_\d{4}_\d{2}$')
    and to_date(right(c.relname, 7), 'YYYY_MM') + interval '1 month' <= before at time zone 'UTC'
  order by c.relname limit 1;
  if name is not null and parent = 'job' then
    execute format('select max(finished_at) from %I', name) into latest;
    update measure_cursor set complete_since = greatest(complete_since, latest);
  end if;
  if name is not null then
    execute format('drop table %I', name);
  end if;
  return name;
end $$;

revoke execute on function make_partitions(timestamptz, timestamptz), drop_partition(text, timestamptz) from public;

-- Permits a role to run the service on tables that another role owns: it reads and writes, but to the audit log it only adds.
create function permit_service(role text) returns void language plpgsql as $$
declare
  part text;
begin
  execute format('grant usage on schema %I to %I', current_schema(), role);
  execute format('grant select, insert, update, delete on all tables in schema %I to %I', current_schema(), role);
  execute format('grant usage, select on all sequences in schema %I to %I', current_schema(), role);
  execute format('grant execute on all functions in schema %I to %I', current_schema(), role);
  execute format('revoke update, delete on audit, audit_seal from %I', role);
  execute format('revoke insert, update, delete on __diesel_schema_migrations from %I', role);
  -- Partitions are written through their table alone.
  for part in select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = 'audit'::regclass loop
    execute format('revoke insert, update, delete on %I from %I', part, role);
  end loop;
end $$;
