alter table attempt_log drop column removed;
alter table measured drop column whole_since, drop column turn;
drop function drop_partition(text, timestamptz);
