-- Each plan revision keeps the highest id that items ever had, so that a change
-- of the plan and a commit of leases never wait for the same row.
alter table plan_revision add column last_id bigint not null default 0;
update plan_revision set last_id = (select last_id from server);
-- The service's time, tied to the time since the host was started.
create table clock (
    one  boolean primary key default true check (one),
    host text not null,   -- one start of the host
    boot bigint not null, -- nanoseconds since then
    at   timestamptz not null
);
alter table token add column made timestamptz not null default now();
