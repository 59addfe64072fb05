-- What else was heard of a client's way here: remote id, subscriber, user class.
alter table lease add column agent bytea not null default '';
-- By what an older state of the database is told from the one that it should have, and
-- what is known once it was found.
alter table server add column token text not null default '', add column set_back jsonb;
-- Of what two servers of a pair both keep the newest word counts, item by item, and that
-- something was taken away is a word, too.
alter table account add column changed timestamptz not null default 'epoch';
create table token_gone (
    hash bytea primary key,
    at   timestamptz not null
);
alter table alert_target add column changed timestamptz not null default 'epoch';
alter table alert_silence add column changed timestamptz not null default 'epoch';
create table alert_gone (
    kind text not null, -- target or silence
    key  text not null,
    at   timestamptz not null,
    primary key (kind, key)
);
drop table alert_stamp;
