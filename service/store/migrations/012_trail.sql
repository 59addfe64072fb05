-- What people did, beside the revisions of the plan.
create table trail (
    id      bigint generated always as identity primary key,
    at      timestamptz not null,
    who     text not null,
    source  text not null, -- the address that it was asked from
    deed    text not null, -- such as: ended a lease
    subject text not null,
    reason  text not null,
    detail  text not null
);
create index on trail (at desc);
create index on trail (subject);
