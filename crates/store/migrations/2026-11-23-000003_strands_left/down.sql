do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), ' ''strand_left'',', '');
end $$;
drop index job_failed;
alter table job drop column retried_as;
drop index job_unstarted;
drop index attempt_strand;
drop table strand_left;
