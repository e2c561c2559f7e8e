-- Days that are long over are drawn together into tens: up to here that is done, stretch by stretch, by the leader.
alter table measured add column drawn_until timestamptz not null default 'epoch';
