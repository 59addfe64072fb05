-- What a pair knows of a record, and what a server keeps of the pair it is in.
alter table lease
    add column owed bool not null default false, -- the partner has not acknowledged it yet
    add column version bigint not null default 0, -- changes by the primary in the upper half, by the secondary in the lower
    add column acked bigint not null default 0, -- seconds since 2000-01-01 UTC, 2^32-1 is never
    add column told bigint not null default 0,
    add column given_by smallint not null default 0; -- 1: the primary, 2: the secondary
alter table lease_history add column given_by smallint not null default 0;
create table pair (
    one      boolean primary key default true check (one),
    settings jsonb not null,
    identity bytea not null, -- this server's certificate and key, PEM
    partner  jsonb not null, -- its name, where it is, its certificate
    theirs   bigint not null default 0, -- the newest revision of the plan that the partner is known to have
    record   jsonb not null  -- where this server stands
);
create table pair_history (
    at   timestamptz not null,
    text text not null
);
create index on pair_history (at);
-- Revisions of the plan that were not chosen when both servers of a pair had changed
-- it; they can be applied again.
create table plan_aside (
    at       timestamptz not null, -- when the other line was chosen
    revision bigint      not null,
    made     timestamptz not null,
    author   text        not null,
    reason   text        not null,
    items    jsonb       not null
);
