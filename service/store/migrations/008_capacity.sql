-- Use over time. A series is a scope, a pool, a link or the whole, by its key.
create table capacity_series (
    id  int primary key generated always as identity,
    key text not null unique
);
-- The hour that is not over: one row a minute, of all series.
create table capacity_open (
    at   timestamptz primary key,
    body bytea not null
);
-- The last days by the minute, one row an hour and series.
create table capacity_minutes (
    hour   timestamptz not null,
    series int   not null,
    body   bytea not null,
    primary key (series, hour)
);
create index on capacity_minutes (hour);
-- A year by the hour, one row a day and series.
create table capacity_days (
    day    date  not null,
    series int   not null,
    body   bytea not null,
    primary key (series, day)
);
create index on capacity_days (day);
-- What audits found: one row a finding, for as long as it is there and a while longer.
create table finding (
    key      text primary key, -- code and subject
    first    timestamptz not null,
    last     timestamptz not null,
    gone     timestamptz,
    body     jsonb not null
);
create table acknowledged (
    key      text primary key,
    by_whom  text not null,
    at       timestamptz not null,
    until    timestamptz not null,
    reason   text not null
);
create table audit_run (
    id     bigint primary key generated always as identity,
    at     timestamptz not null,
    why    text not null,
    took   bigint not null, -- milliseconds
    counts jsonb not null
);
-- Alerts: what stands, where they go, and what still has to go there.
create table alert (
    key    text primary key,
    since  timestamptz not null,
    ended  timestamptz,
    body   jsonb not null
);
create table alert_silence (
    key    text primary key, -- of an alert, or the beginning of keys with * behind
    until  timestamptz not null,
    by_whom text not null,
    reason text not null
);
create table alert_target (
    name   text primary key,
    body   jsonb not null,
    secret bytea not null default ''
);
create table alert_queue (
    id     bigint primary key generated always as identity,
    target text not null references alert_target on delete cascade,
    at     timestamptz not null,
    tries  int not null default 0,
    next   timestamptz not null,
    failed text not null default '',
    body   jsonb not null
);
