-- There is nothing before the first migration: to go back, drop the database.
do $$ begin raise exception 'the first migration cannot be reverted; drop the database instead'; end $$;
