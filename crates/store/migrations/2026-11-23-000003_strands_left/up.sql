-- The strands that a job was in before the one it is in now, and until when: a wait is split by the timeline of the
-- strand in which it was spent.
create table strand_left (
  job_id    uuid not null,
  strand_id uuid not null,
  until     timestamptz not null,
  primary key (job_id, until)
) partition by range (until);
create index strand_left_strand on strand_left (strand_id, until);

-- A job's place in its strand's line at some time is worked out from the waits of those before it.
create index attempt_strand on attempt (strand_id, id);
create index job_unstarted on job (strand_id, finished_at) where state = 'done' and current_attempt is null;

-- Its partitions are made with the others'.
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), '''strand_reason'',', '''strand_reason'', ''strand_left'',');
end $$;

-- The number of the job that was submitted in place of this one: what was retried once is not found again.
alter table job add column retried_as bigint;
create index job_failed on job (number) where state = 'done' and result <> 'success' and retried_as is null;
