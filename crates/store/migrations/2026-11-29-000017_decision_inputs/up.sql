-- What dispatch and capacity decide from, in versions: each holds from `since` on, until the next one of the same thing. A
-- null value: there is none any more. Pools' policies, runners' facts and maintenance have versions of their own
-- (pool_policy, runner_facts, maintenance).
create table decision_input (
  kind  text not null check (kind in ('place', 'seat', 'pool', 'supplier', 'share-policy')),
  id    uuid not null,
  since timestamptz not null,
  value jsonb,
  primary key (kind, id, since)
);
