-- Alerts that had ended shortly before they came: they clear more slowly, also after a restart.
alter table alert add column hovers boolean not null default false;
