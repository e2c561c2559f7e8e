-- How far the change feed was sent as traces; no row where they never were.
create table traced (
  one  boolean primary key default true check (one),
  txid bigint not null,
  id   bigint not null
);
