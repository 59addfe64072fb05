-- What audits found, lost and found again: each earlier time that a finding was there, so that any two
-- audits can be compared.
create table finding_past (
	key text not null,
	first timestamptz not null,
	gone timestamptz not null,
	body jsonb not null
);
create index finding_past_gone on finding_past (gone);
-- When reports are made, and those that were.
create table report_schedule (
	one boolean primary key default true check (one),
	every bigint not null, -- in seconds; 0: none
	begins timestamptz not null,
	keep integer not null,
	changed timestamptz not null
);
create table report (
	id bigint generated always as identity primary key,
	at timestamptz not null,
	severity text not null,
	text text not null,
	page bytea not null
);
