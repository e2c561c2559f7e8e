alter table outbox add primary key (id, at);
drop index job_never_ran, attempt_strand, attempt_open, job_failed, job_ended, job_give_up, job_open;
alter table attempt drop column open;
alter table job drop column retried_as, drop column never_ran, drop column open;
create index attempt_open on attempt (runner_id) where state <> 'done';
create index job_give_up on job (give_up_at)
  where state = 'pending' and current_attempt is null and give_up_at is not null;
create index job_open on job (strand_id) where state <> 'done';
create index job_by_project on job (project_id, id);
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), ' ''strand_left'',', '');
end $$;
drop table strand_left;
