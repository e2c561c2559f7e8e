drop table traced;
