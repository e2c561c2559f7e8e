drop table yard_file;
