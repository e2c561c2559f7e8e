-- From when on people are told of what is not told at once; no row where nobody changed anything.
create table alert_thresholds (
  one        boolean primary key default true check (one),
  thresholds jsonb not null
);
