-- When targets or silences of alerts last changed, so that of two servers the newest
-- word counts.
create table alert_stamp (
    one boolean primary key default true check (one),
    at  timestamptz not null
);
insert into alert_stamp (at) values ('epoch');
