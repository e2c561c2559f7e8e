alter table runner
  drop column description, drop column told, drop column settings, drop column settings_version;
delete from ticket where runner_id is null;
alter table ticket
  alter column runner_id set not null,
  drop column uses, drop column used, drop column name_pattern, drop column labels, drop column revoked_at,
  drop column revoked_by;
