-- A revision that was kept aside is asked for by a number of its own.
alter table plan_aside add column id bigint generated always as identity;
-- The state that a server of a pair was in from a moment on; null for what else happened.
alter table pair_history add column state text;
update pair_history set state = substring(text from ' from [a-z-]+ to ([a-z-]+)$');
