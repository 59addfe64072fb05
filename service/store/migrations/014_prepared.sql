-- Changes of the plan in preparation. One that was applied or dropped keeps its row without a body for a
-- while, so that a partner that did not hear of it does not bring it back.
create table prepared (
	name text primary key,
	changed timestamptz not null,
	body jsonb
);
