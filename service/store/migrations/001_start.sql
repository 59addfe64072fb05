-- One row: which process may write, and the last batch it wrote.
create table server (
    one        boolean primary key default true check (one),
    epoch      bigint not null default 0,
    last_batch bigint not null default 0,
    last_id    bigint not null default 0  -- highest plan item id ever given
);
insert into server default values;

create table plan_item (
    kind   text   not null,
    id     bigint not null,
    parent bigint,
    body   jsonb  not null,
    primary key (kind, id)
);

create table plan_revision (
    revision bigint primary key,
    at       timestamptz not null,
    author   text not null,
    reason   text not null
);

create table plan_change (
    revision bigint not null references plan_revision,
    seq      int    not null,
    kind     text   not null,
    id       bigint not null,
    name     text   not null,
    before   jsonb,
    after    jsonb,
    lines    jsonb  not null, -- the diff in plain words, as of then
    primary key (revision, seq)
);

-- Times are seconds since 1970-01-01 UTC; expires 2^63-1 is never.
create table lease (
    address  inet primary key,
    status   smallint not null,
    reserved boolean  not null,
    client   bytea    not null,
    hardware bytea    not null,
    hostname text     not null,
    vendor   text     not null,
    circuit  bytea    not null,
    relay    inet,
    since    bigint   not null,
    changed  bigint   not null,
    expires  bigint   not null,
    heard    bigint   not null,
    granted  bigint   not null,
    revision bigint   not null
) with (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.1);

create table lease_history (
    at       timestamptz not null,
    address  inet     not null,
    status   smallint not null,
    client   bytea    not null,
    hardware bytea    not null,
    hostname text     not null,
    circuit  bytea    not null,
    relay    inet,
    since    bigint   not null,
    expires  bigint   not null
) partition by range (at);
create index on lease_history using brin (at);
create table lease_history_rest partition of lease_history default;

create table account (
    name        text primary key,
    password    text not null, -- argon2id
    must_change boolean not null
);
create table session (
    hash    bytea primary key, -- SHA-256 of the cookie
    account text not null references account on delete cascade,
    expires timestamptz not null
);
create table token (
    hash    bytea primary key, -- SHA-256 of the token
    name    text not null,
    account text not null references account on delete cascade
);
