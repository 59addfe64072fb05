-- What clients asked with and were given, one row a distinct set; leases and
-- their history keep its digest.
create table given_set (
    digest bigint primary key,
    body   bytea  not null
);
alter table lease add column given bigint not null default 0;
alter table lease add column nonce bytea  not null default ''; -- RFC 6704
alter table lease_history add column vendor text   not null default '';
alter table lease_history add column given  bigint not null default 0;
