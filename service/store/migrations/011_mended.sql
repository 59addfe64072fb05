-- What else was heard of a client's way here: remote id, subscriber, user class.
alter table lease add column agent bytea not null default '';
