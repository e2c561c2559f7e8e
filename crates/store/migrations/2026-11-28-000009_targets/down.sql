drop index outbox_told;
drop table listener, alert, target;
