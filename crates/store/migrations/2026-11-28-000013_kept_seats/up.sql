-- For which jobs seats are kept back once they come free, the oldest first: [{"job": ..., "number": ..., "count": ...}].
-- The leader writes it, so that every replica can say for whom.
alter table seat add column kept_for jsonb not null default '[]';
