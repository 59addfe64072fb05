-- What else was heard of a client's way here: remote id, subscriber, user class.
alter table lease add column agent bytea not null default '';
-- By what an older state of the database is told from the one that it should have, and
-- what is known once it was found.
alter table server add column token text not null default '', add column set_back jsonb;
