-- +goose Up
-- Applications that were brought to rest for an image, and what became of each; those that a task has yet to tell to go on.
alter table images add column rested jsonb not null default '[]';
alter table tasks add column owed text[] not null default '{}';

-- +goose Down
alter table tasks drop column owed;
alter table images drop column rested;
