drop table measured, runner_offer, stint, rollup, rollup_key;
alter table machine drop column counted;
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), ' ''rollup'', ''stint'',', '');
end $$;
