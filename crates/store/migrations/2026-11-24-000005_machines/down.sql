drop table maintenance;
drop sequence maintenance_number;
alter table pool drop column needs;
drop index attempt_runner;
alter table runner_seen drop column peer;
alter table runner drop column room, drop column credential_since, drop column next_credential_hash;
