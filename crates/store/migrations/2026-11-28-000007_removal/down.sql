drop index pool_name;
alter table pool drop column removed_at, add constraint pool_name_key unique (name);
