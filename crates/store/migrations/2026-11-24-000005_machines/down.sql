drop table maintenance;
drop sequence maintenance_number;
alter table pool drop column needs;
drop index attempt_runner;
alter table log_chunk alter column bytes set storage extended;
alter table runner_seen drop column peer;
alter table runner drop column room, drop column credential_since, drop column next_credential_hash;
