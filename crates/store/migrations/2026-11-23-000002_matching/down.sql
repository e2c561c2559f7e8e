alter table attempt drop column seats_back_at, drop column seats_back_by, drop column seats_back_why;
drop index job_give_up;
alter table job drop column band, drop column seats, drop column give_up_us, drop column give_up_at,
  drop column fail_unmatched;
drop table seat;
alter table pool_policy drop column reach_only, drop column reach_also, drop column paused;
alter table pool drop column reach_only, drop column reach_also, drop column paused;
alter table place drop column weight, drop column slot_limit, drop column give_up_us;
