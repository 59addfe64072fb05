-- An alert keeps the finding that it is of as it is, and that it was not told stands beside it.
alter table alert add column unsent boolean not null default false;
update alert set unsent = coalesce((body->>'unsent')::boolean, false);
update alert_queue set body = jsonb_set(body, '{Alert,Finding}', body->'Alert') where body->'Alert' ? 'code';
