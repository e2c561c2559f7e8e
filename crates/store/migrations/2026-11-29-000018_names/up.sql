-- Names as the code has them.
alter table runner rename column wish to desired_state;
alter table runner rename column told to reported;
alter table measured rename to measure_cursor;
alter table measure_cursor rename column drawn_until to compacted_until;
alter table traced rename to trace_cursor;
alter table runner_offer rename to offered_span;
alter index runner_offer_open rename to offered_span_open;
alter index runner_offer_until rename to offered_span_until;
do $$ begin
  execute replace(pg_get_functiondef('drop_partition'::regproc), 'update measured', 'update measure_cursor');
end $$;
