-- The strands that a job was in before the one it is in now, and until when: a wait is split by the timeline of the
-- strand in which it was spent.
create table strand_left (
  job_id    uuid not null,
  strand_id uuid not null,
  until     timestamptz not null,
  primary key (job_id, until)
) partition by range (until);
create index strand_left_strand on strand_left (strand_id, until);

-- Its partitions are made with the others'.
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), '''strand_reason'',', '''strand_reason'', ''strand_left'',');
end $$;

-- An update that changes no indexed column writes no index entry, and a column counts as indexed when an index's
-- condition names it. A job's state and attempt change three times in its life: the indexes go by these instead, which
-- change once.
alter table job
  add column open      boolean not null generated always as (state <> 'done') stored,
  add column never_ran boolean not null generated always as (state = 'done' and current_attempt is null) stored,
  -- The number of the job that was submitted in place of this one: what was retried once is not found again.
  add column retried_as bigint;
alter table attempt
  add column open boolean not null generated always as (state <> 'done') stored;

-- A project's jobs are found by its strands.
drop index job_open, job_give_up, job_by_project, attempt_open;
create index job_open on job (strand_id) where open;
create index job_give_up on job (give_up_at) where open and give_up_at is not null;
create index job_ended on job (finished_at) where finished_at is not null;
create index job_failed on job (number) where result <> 'success' and retried_as is null;
create index attempt_open on attempt (runner_id) where open;

-- A job's place in its strand's line at some time is worked out from the waits of those before it.
create index attempt_strand on attempt (strand_id, id);
create index job_never_ran on job (strand_id, finished_at) where never_ran;

-- The feed reads by (txid, id) and a thing's own changes by subject; the sequence makes the ids unique.
alter table outbox drop constraint outbox_pkey;
