drop table trial, pool_level, decision, machine, pool_standing;
drop sequence decision_id, machine_number;
alter table runner drop column single_use;
alter table pool_policy drop column supply;
alter table pool drop column supply;
drop table supplier;
do $$ begin
  execute replace(pg_get_functiondef('make_partitions'::regproc), ' ''decision'', ''pool_level'',', '');
end $$;
