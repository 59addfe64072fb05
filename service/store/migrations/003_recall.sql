-- What the service remembers over a restart and could do without: clients that
-- go without, relays heard, results of trials.
create table recall (
    one  boolean primary key default true check (one),
    at   timestamptz not null,
    body bytea not null
);
