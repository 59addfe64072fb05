-- From what backup the database was restored, until the service has seen to what may be missing; and
-- whether it is to leave the pair that it was in.
alter table server
	add column restored text not null default '',
	add column alone boolean not null default false;
